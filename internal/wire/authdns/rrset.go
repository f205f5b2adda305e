// Package authdns is an authoritative name server (RFC 1034, RFC 1035) that answers from memory. Record sets are encoded
// once, when they are set; answering copies bytes and allocates nothing.
package authdns

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"
)

// RRset holds the records of one type at one name, encoded for an answer. The owner is a pointer to the question's name,
// which therefore keeps the case that the client wrote it in (RFC 4343 section 4.1).
type RRset struct {
	rrtype uint16
	count  uint16
	wire   []byte
}

// questionPointer is the compression pointer (RFC 1035 section 4.1.4) to the name right behind the header.
const questionPointer = 0xC000 | headerSize

// NewRRset encodes records that share one owner, type and TTL. Errors: no record, records of different types, one that cannot be encoded.
func NewRRset(records ...dns.RR) (RRset, error) {
	if len(records) == 0 {
		return RRset{}, fmt.Errorf("a record set needs one record at least")
	}
	set := RRset{rrtype: records[0].Header().Rrtype}
	for _, rr := range records {
		buf := make([]byte, dns.Len(rr)+1)
		if rr.Header().Rrtype != set.rrtype {
			return RRset{}, fmt.Errorf("%s record in a set of %s records", dns.TypeToString[rr.Header().Rrtype],
				dns.TypeToString[set.rrtype])
		}
		n, err := dns.PackRR(rr, buf, 0, nil, false)
		if err != nil {
			return RRset{}, fmt.Errorf("encode %s: %w", rr, err)
		}
		_, owner, err := dns.UnpackDomainName(buf, 0)
		if err != nil {
			return RRset{}, err
		}
		set.wire = append(set.wire, questionPointer>>8, questionPointer&0xff)
		set.wire = append(set.wire, buf[owner:n]...)
		set.count++
	}
	return set, nil
}

// AddressSet encodes the one A or AAAA record of an address: addresses move by the thousand, and need no detour by text.
func AddressSet(a netip.Addr, ttl uint32) RRset {
	set := RRset{rrtype: dns.TypeA, count: 1}
	data := a.AsSlice()
	if len(data) == net.IPv6len {
		set.rrtype = dns.TypeAAAA
	}
	w := append(make([]byte, 0, fixedSize+len(data)), questionPointer>>8, questionPointer&0xff)
	w = binary.BigEndian.AppendUint16(w, set.rrtype)
	w = binary.BigEndian.AppendUint16(w, dns.ClassINET)
	w = binary.BigEndian.AppendUint32(w, ttl)
	w = binary.BigEndian.AppendUint16(w, uint16(len(data)))
	set.wire = append(w, data...)
	return set
}

// key returns the form under which names are looked up: wire format, lower case.
func key(name string) (string, error) {
	buf := make([]byte, 256)
	n, err := dns.PackDomainName(dns.Fqdn(strings.ToLower(name)), buf, 0, nil, false)
	if err != nil {
		return "", fmt.Errorf("name %q: %w", name, err)
	}
	return string(buf[:n]), nil
}
