// Package zonefile reads and writes records and zones in the form of RFC 1035 section 5.
package zonefile

import (
	"fmt"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// RR reads a record's data.
func RR(r names.Record) (dns.RR, error) {
	rr, err := dns.NewRR(fmt.Sprintf("%s. %d IN %s %s", r.Name, r.TTL, r.Type, r.Data))
	if err != nil || rr == nil {
		return nil, fmt.Errorf("%q is not data of a %s record: %v", r.Data, r.Type, err)
	}
	return rr, nil
}

// Record is the other way round: the owner in canonical form, the data as a zone file has it.
func Record(rr dns.RR) names.Record {
	h := rr.Header()
	return names.Record{Name: names.Name(strings.TrimSuffix(strings.ToLower(h.Name), ".")), Type: dns.Type(h.Rrtype).String(), TTL: int(h.Ttl), Data: Data(rr)}
}

// Data writes a record's data. Names in it are brought into lower case (RFC 4343), so that equal data look equal.
func Data(rr dns.RR) string {
	fields := strings.SplitN(rr.String(), "\t", 5) // owner, TTL, class, type, data
	data := strings.TrimSpace(fields[len(fields)-1])
	switch rr.(type) {
	case *dns.CNAME, *dns.MX, *dns.NS, *dns.SRV, *dns.PTR:
		return strings.ToLower(data)
	}
	return data
}

// Type gives the number of a record type, by its name or as RFC 3597 section 5 writes it.
func Type(word string) (uint16, error) {
	if t, known := dns.StringToType[word]; known {
		return t, nil
	}
	var t uint16
	if _, err := fmt.Sscanf(word, "TYPE%d", &t); err != nil {
		return 0, fmt.Errorf("record type %q is unknown", word)
	}
	return t, nil
}
