package authdns

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/miekg/dns"
)

// A copy of zones is a stream of records in wire format (RFC 1035 section 3.2.1, names not compressed), each behind its length in
// four octets. A zone begins with its SOA record.

// maxCopyRecord bounds one record of a copy: the largest there can be.
const maxCopyRecord = 255 + fixedSize + 65535

// WriteCopy writes zones as they are now, each at one serial. Errors: those of w.
func WriteCopy(w io.Writer, zones []*Zone) error {
	write := func(wire []byte) error {
		_, err := w.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(wire))), wire...))
		return err
	}
	for _, z := range zones {
		soa, all := z.snapshot()
		head := make([]byte, dns.Len(soa)+1)
		n, err := dns.PackRR(soa, head, 0, nil, false)
		if err != nil {
			return fmt.Errorf("zone %s: %w", soa.Hdr.Name, err)
		}
		if err := write(head[:n]); err != nil {
			return err
		}
		for _, r := range all {
			if err := write([]byte(r.owner + r.rest)); err != nil {
				return err
			}
		}
	}
	return nil
}

// ReadCopy reads what WriteCopy wrote. Errors: those of r, and of a copy that is cut short or damaged.
func ReadCopy(r io.Reader) (zones []*Zone, err error) {
	type set struct {
		name   string
		rrtype uint16
	}
	var soa *dns.SOA
	sets := map[set][]dns.RR{}
	finish := func() error {
		if soa == nil {
			return nil
		}
		content := Names{}
		for at, list := range sets {
			one, err := NewRRset(list...)
			if err != nil {
				return err
			}
			content[at.name] = append(content[at.name], one)
		}
		z, err := NewZone(soa, content)
		zones = append(zones, z)
		return err
	}
	for {
		var size [4]byte
		if _, err := io.ReadFull(r, size[:]); errors.Is(err, io.EOF) {
			return zones, finish()
		} else if err != nil {
			return nil, err
		}
		n := binary.BigEndian.Uint32(size[:])
		if n > maxCopyRecord {
			return nil, fmt.Errorf("a record of %d octets is longer than there can be", n)
		}
		wire := make([]byte, n)
		if _, err := io.ReadFull(r, wire); err != nil {
			return nil, err
		}
		rr, _, err := dns.UnpackRR(wire, 0)
		if err != nil {
			return nil, err
		}
		if head, is := rr.(*dns.SOA); is {
			if err := finish(); err != nil {
				return nil, err
			}
			soa, sets = head, map[set][]dns.RR{}
			continue
		}
		if soa == nil {
			return nil, errors.New("it does not begin with an SOA record")
		}
		at := set{strings.TrimSuffix(rr.Header().Name, "."), rr.Header().Rrtype}
		sets[at] = append(sets[at], rr)
	}
}
