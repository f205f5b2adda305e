// Package zonefile reads and writes records and zones in the form of RFC 1035 section 5.
package zonefile

import (
	"fmt"
	"net/netip"
	"reflect"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// RR reads a record's data. Names in it that have no final dot are taken from the root: data on record is complete. The error shows what
// such data look like.
func RR(r names.Record) (dns.RR, error) {
	head := dns.RR_Header{Name: string(r.Name) + ".", Class: dns.ClassINET, Ttl: uint32(r.TTL)}
	a, err := netip.ParseAddr(r.Data) // most of a large zone is addresses, and reading them as text takes most of encoding it
	switch {
	case err == nil && r.Type == "A" && a.Is4():
		head.Rrtype = dns.TypeA
		return &dns.A{Hdr: head, A: a.AsSlice()}, nil
	case err == nil && r.Type == "AAAA" && a.Is6() && !a.Is4In6() && a.Zone() == "":
		head.Rrtype = dns.TypeAAAA
		return &dns.AAAA{Hdr: head, AAAA: a.AsSlice()}, nil
	}
	return Below(r, ".")
}

// Below is RR where names in the data that have no final dot are relative to origin, as a person types them. The error shows what such data
// look like.
func Below(r names.Record, origin string) (dns.RR, error) {
	p := dns.NewZoneParser(strings.NewReader(fmt.Sprintf("%s. %d IN %s %s\n", r.Name, r.TTL, r.Type, r.Data)), origin, "")
	rr, ok := p.Next()
	switch {
	case strings.TrimSpace(r.Data) == "", ok && blank(rr):
		return nil, fmt.Errorf("a %s record needs data%s", r.Type, example(r.Type))
	case !ok || p.Err() != nil || !encodes(rr):
		return nil, fmt.Errorf("%q is not data of a %s record%s", r.Data, r.Type, example(r.Type))
	}
	return rr, nil
}

// encodes reports whether a record can be put into a message: the parser also takes data that cannot, such as an odd number of
// hexadecimal digits.
func encodes(rr dns.RR) bool {
	_, err := dns.PackRR(rr, make([]byte, 2*dns.Len(rr)+64), 0, nil, false)
	return err == nil
}

// example shows what data of a type looks like.
func example(rrtype string) string {
	if text := examples[rrtype]; text != "" {
		return "; it looks like this: " + text
	}
	return "; write it as RFC 1035 section 5 does, or as TYPE and a number with \\# and its octets in hexadecimal (RFC 3597 section 5)"
}

var examples = map[string]string{
	"A":     "198.51.100.7",
	"AAAA":  "2001:db8::7",
	"CNAME": "host.isles.example.",
	"DNAME": "isles.example.",
	"MX":    "10 mail.isles.example.",
	"TXT":   `"v=spf1 -all"`,
	"NS":    "ns1.isles.example.",
	"DS":    "12345 13 2 and the digest in hexadecimal",
	"PTR":   "host.isles.example.",
	"SRV":   "0 5 5061 calls.isles.example.",
	"CAA":   `0 issue "ca.example"`,
	"HTTPS": "1 . alpn=h2",
	"SVCB":  "1 svc.isles.example. port=8443",
	"SSHFP": "4 2 and the digest in hexadecimal",
	"TLSA":  "3 1 1 and the digest in hexadecimal",
	"NAPTR": `10 100 "u" "E2U+sip" "!^.*$!sip:desk@isles.example!" .`,
	"LOC":   "52 22 23.000 N 4 53 32.000 E -2.00m 0.00m 10000m 10m",
	"HINFO": `"x86" "linux"`,
	"RP":    "hostmaster.isles.example. .",
	"URI":   `10 1 "https://isles.example/"`,
}

// blank reports whether a record has no data at all: the parser takes such a line for one of an update (RFC 2136), and leaves it empty.
func blank(rr dns.RR) bool {
	empty, known := dns.TypeToRR[rr.Header().Rrtype]
	if !known {
		return false
	}
	zero := empty()
	*zero.Header() = *rr.Header()
	return reflect.DeepEqual(zero, rr)
}

// Record is the other way round: the owner in canonical form, the data as a zone file has it.
func Record(rr dns.RR) names.Record {
	h := rr.Header()
	return names.Record{Name: names.Name(strings.TrimSuffix(strings.ToLower(h.Name), ".")), Type: dns.Type(h.Rrtype).String(),
		TTL: int(h.Ttl), Data: Data(rr)}
}

// Data writes a record's data. Names in it are brought into lower case (RFC 4343), so that equal data look equal.
func Data(rr dns.RR) string {
	fields := strings.SplitN(rr.String(), "\t", 5) // owner, TTL, class, type, data
	data := strings.TrimSpace(fields[len(fields)-1])
	switch rr.(type) {
	case *dns.CNAME, *dns.DNAME, *dns.MX, *dns.NS, *dns.SRV, *dns.PTR:
		return strings.ToLower(data)
	}
	return data
}

// Type returns the number of a record type, by its name or as RFC 3597 section 5 writes it. Error: an unknown type.
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
