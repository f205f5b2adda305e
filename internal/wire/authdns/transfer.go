package authdns

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"github.com/miekg/dns"
)

// transferSize is about how large each message of a transfer becomes: large enough to be few, small enough that names
// in it can be compressed by pointers (RFC 1035 section 4.1.4 bounds those to 16 KiB).
const transferSize = 16 << 10

// transfer answers AXFR (RFC 5936) and IXFR (RFC 1995). send writes one message, signed as the request was.
func (s *Server) transfer(m *dns.Msg, access Access, from netip.Addr, tcp bool, keyName string, send func(*dns.Msg) error) error {
	q := m.Question[0]
	refuse := func(rcode int) error { return send(new(dns.Msg).SetRcode(m, rcode)) }
	z := s.directory.Zone(q.Name)
	if z == nil {
		return refuse(dns.RcodeNotAuth)
	}
	if !access.MayTransfer(z.Apex(), from, keyName) {
		s.counters.transfersRefused.Add(1)
		return refuse(dns.RcodeRefused)
	}
	out := &transferWriter{request: m, send: send}
	if q.Qtype == dns.TypeIXFR {
		theirs, ok := soaIn(m.Ns)
		if !ok {
			return refuse(dns.RcodeFormatError)
		}
		soa, list, known := z.changes(theirs)
		switch {
		case known && len(list) == 0, !tcp:
			// Nothing newer, or no room: the newest SOA alone says which (RFC 1995 sections 2 and 4).
			return out.flushWith(soa)
		case known:
			s.counters.transfersPart.Add(1)
			return incremental(out, soa, list)
		}
	}
	if !tcp {
		return refuse(dns.RcodeFormatError) // AXFR is for TCP (RFC 5936 section 4.2)
	}
	s.counters.transfersWhole.Add(1)
	soa, all := z.snapshot()
	if err := out.add(soa); err != nil {
		return err
	}
	for _, r := range all {
		if err := out.record(r); err != nil {
			return err
		}
	}
	return out.flushWith(soa)
}

func incremental(out *transferWriter, soa *dns.SOA, list []delta) error {
	at := func(serial uint32) *dns.SOA {
		then := *soa
		then.Serial = serial
		return &then
	}
	if err := out.add(soa); err != nil {
		return err
	}
	for _, d := range list {
		for _, part := range []struct {
			soa     *dns.SOA
			records []record
		}{{at(d.from), d.removed}, {at(d.to), d.added}} {
			if err := out.add(part.soa); err != nil {
				return err
			}
			for _, r := range part.records {
				if err := out.record(r); err != nil {
					return err
				}
			}
		}
	}
	return out.flushWith(soa)
}

func soaIn(list []dns.RR) (serial uint32, ok bool) {
	if len(list) != 1 {
		return 0, false
	}
	soa, ok := list[0].(*dns.SOA)
	if !ok {
		return 0, false
	}
	return soa.Serial, true
}

// transferWriter gathers records into messages and sends each when it is full.
type transferWriter struct {
	request *dns.Msg
	send    func(*dns.Msg) error
	answer  []dns.RR
	size    int
}

func (p *transferWriter) add(rr dns.RR) error {
	p.answer = append(p.answer, rr)
	if p.size += dns.Len(rr); p.size < transferSize {
		return nil
	}
	return p.flush()
}

func (p *transferWriter) record(r record) error {
	buf := make([]byte, 0, len(r.owner)+len(r.rest))
	buf = append(append(buf, r.owner...), r.rest...)
	rr, _, err := dns.UnpackRR(buf, 0)
	if err != nil {
		return fmt.Errorf("a record of the zone cannot be read back: %w", err)
	}
	return p.add(rr)
}

func (p *transferWriter) flush() error {
	if len(p.answer) == 0 {
		return nil
	}
	m := new(dns.Msg).SetReply(p.request)
	m.Authoritative, m.Compress, m.RecursionDesired = true, true, false
	m.Answer, p.answer, p.size = p.answer, nil, 0
	return p.send(m)
}

// flushWith adds the SOA record that ends a transfer and sends what is left.
func (p *transferWriter) flushWith(soa *dns.SOA) error {
	p.answer = append(p.answer, soa)
	return p.flush()
}

// isSlow reports whether a request needs more than an answer from memory: a transfer, an update, or a signature. Those are
// taken apart as a whole; everything else is answered from the wire format.
func isSlow(req []byte) bool {
	if len(req) < headerSize || req[2]&0x80 != 0 {
		return false
	}
	if opcode := int(req[2]>>3) & 0xF; opcode == dns.OpcodeUpdate {
		return true
	} else if opcode != dns.OpcodeQuery || binary.BigEndian.Uint16(req[4:]) != 1 {
		return false
	}
	off := skipName(req, headerSize)
	if off < 0 || off+4 > len(req) {
		return false
	}
	if t := binary.BigEndian.Uint16(req[off:]); t == dns.TypeAXFR || t == dns.TypeIXFR {
		return true
	}
	// A TSIG record is the last one (RFC 8945 section 5.1).
	at := lastRecord(req)
	if at < 0 {
		return false
	}
	at = skipName(req, at)
	return at >= 0 && at+2 <= len(req) && binary.BigEndian.Uint16(req[at:]) == dns.TypeTSIG
}

// lastRecord finds where the last record of the additional section begins; it is negative if there is none.
func lastRecord(req []byte) int {
	questions, additional := int(binary.BigEndian.Uint16(req[4:])), int(binary.BigEndian.Uint16(req[10:]))
	if additional == 0 {
		return -1
	}
	off := headerSize
	for range questions {
		if off = skipName(req, off); off < 0 || off+4 > len(req) {
			return -1
		}
		off += 4
	}
	for range int(binary.BigEndian.Uint16(req[6:])) + int(binary.BigEndian.Uint16(req[8:])) + additional - 1 {
		if off = skipName(req, off); off < 0 || off+10 > len(req) {
			return -1
		}
		off += 10 + int(binary.BigEndian.Uint16(req[off+8:]))
	}
	if off >= len(req) {
		return -1
	}
	return off
}
