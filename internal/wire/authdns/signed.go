package authdns

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/miekg/dns"
)

// Access decides who may do more than ask. A Server without one refuses all of it.
type Access interface {
	// Secret gives the algorithm ("hmac-sha256.") and base64 secret of a TSIG key, by its name with a final dot.
	Secret(keyName string) (algorithm, secret string, ok bool)
	// MayTransfer says whether an address, or the holder of a key ("" for none), may have the whole zone.
	MayTransfer(apex string, from netip.Addr, keyName string) bool
	// Update carries out a DNS UPDATE (RFC 2136) and returns its RCODE. keyName is "" for an unsigned one.
	Update(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr) int
}

const tsigFudge = 300 // seconds, RFC 8945 section 10

// slow takes a request apart as a whole: transfers, updates, and questions that are signed (RFC 8945).
func (s *Server) slow(ctx context.Context, req []byte, from netip.Addr, tcp bool, write func([]byte) error) error {
	m := new(dns.Msg)
	if err := m.Unpack(req); err != nil {
		var q query
		q.id = uint16(req[0])<<8 | uint16(req[1])
		q.flags = uint16(req[2])<<8 | uint16(req[3])
		out := make([]byte, headerSize)
		return write(out[:q.bare(out, dns.RcodeFormatError)])
	}
	signer, rcode := s.verify(m, req)
	send := func(reply *dns.Msg) error {
		packed, err := signer.sign(reply)
		if err != nil {
			return err
		}
		s.counters.answered.Add(1)
		return write(packed)
	}
	if rcode != dns.RcodeSuccess {
		s.counters.badSignatures.Add(1)
		reply := new(dns.Msg).SetRcode(m, rcode)
		return send(reply)
	}
	if m.Opcode == dns.OpcodeUpdate {
		rcode := dns.RcodeRefused
		if s.access != nil {
			s.counters.updates.Add(1)
			rcode = s.access.Update(ctx, m, signer.name, from)
		}
		reply := new(dns.Msg).SetRcode(m, rcode)
		return send(reply)
	}
	if t := m.Question[0].Qtype; t == dns.TypeAXFR || t == dns.TypeIXFR {
		return s.transfer(m, from, tcp, signer.name, send)
	}
	// A signed question: answered like any other, then signed.
	plain := m.Copy()
	plain.Extra = plain.Extra[:len(plain.Extra)-1]
	packed, err := plain.Pack()
	if err != nil {
		return err
	}
	out := make([]byte, dns.MaxMsgSize)
	reply := new(dns.Msg)
	if err := reply.Unpack(out[:s.directory.respond(packed, out, tcp)]); err != nil {
		return err
	}
	return send(reply)
}

// signer signs the replies to one request. The zero signer leaves them unsigned.
type signer struct {
	name, algorithm, secret string
	mac                     string // of the request, then of the reply before
	failure                 uint16 // the TSIG error to report
	later                   bool   // further messages of one reply sign timers only (RFC 8945 section 5.3.1)
}

// verify checks a request's signature, in the order of RFC 8945 section 5.2: key, MAC, time.
func (s *Server) verify(m *dns.Msg, req []byte) (*signer, int) {
	t := m.IsTsig()
	if t == nil {
		return &signer{}, dns.RcodeSuccess
	}
	out := &signer{name: dns.CanonicalName(t.Hdr.Name), algorithm: t.Algorithm, mac: t.MAC}
	known := false
	var algorithm string
	if s.access != nil {
		algorithm, out.secret, known = s.access.Secret(out.name)
	}
	if !known || dns.CanonicalName(t.Algorithm) != algorithm {
		out.failure = dns.RcodeBadKey
		return out, dns.RcodeNotAuth
	}
	switch err := dns.TsigVerify(append([]byte(nil), req...), out.secret, "", false); {
	case err == nil:
		return out, dns.RcodeSuccess
	case errors.Is(err, dns.ErrTime):
		out.failure = dns.RcodeBadTime
	default:
		out.failure = dns.RcodeBadSig
	}
	return out, dns.RcodeNotAuth
}

func (g *signer) sign(m *dns.Msg) ([]byte, error) {
	if g.algorithm == "" {
		return m.Pack()
	}
	m.SetTsig(g.name, g.algorithm, tsigFudge, time.Now().Unix())
	t := m.IsTsig()
	t.Error, t.OrigId = g.failure, m.Id
	if g.failure == dns.RcodeBadTime { // our clock goes along (RFC 8945 section 5.2.3)
		t.OtherLen = 6
		t.OtherData = sixOctets(uint64(time.Now().Unix()))
	}
	packed, mac, err := dns.TsigGenerate(m, g.secret, g.mac, g.later)
	g.mac, g.later = mac, true
	return packed, err
}

func sixOctets(n uint64) string {
	const digits = "0123456789abcdef"
	out := make([]byte, 12)
	for i := range out {
		out[len(out)-1-i] = digits[n&0xF]
		n >>= 4
	}
	return string(out)
}
