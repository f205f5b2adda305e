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
	// Unproven is told of a request whose signature is wrong, though the key is known; of a stranger's key there is nobody to tell.
	Unproven(keyName string, from netip.Addr)
	// Update carries out a DNS UPDATE (RFC 2136) without keeping the caller, and then gives its RCODE to reply, once; more
	// says that another update's follows at once. keyName is "" for an unsigned one.
	Update(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr, reply func(rcode int, more bool))
}

const tsigFudge = 300 // seconds, RFC 8945 section 10

// caller is who sent a request, and how replies go back: with more, another reply follows at once.
type caller struct {
	from  netip.Addr
	tcp   bool
	write func(text []byte, more bool) error
}

// slow takes a request apart as a whole: transfers, updates, and questions that are signed (RFC 8945). An update over UDP is
// answered later.
func (s *Server) slow(ctx context.Context, req []byte, c caller) error {
	m := new(dns.Msg)
	if err := m.Unpack(req); err != nil {
		var q query
		q.id = uint16(req[0])<<8 | uint16(req[1])
		q.flags = uint16(req[2])<<8 | uint16(req[3])
		out := make([]byte, headerSize)
		return c.write(out[:q.bare(out, dns.RcodeFormatError)], false)
	}
	signer, rcode := s.verify(m, req)
	send := func(reply *dns.Msg, more bool) error {
		packed, err := signer.sign(reply)
		if err != nil {
			return err
		}
		s.counters.answered.Add(1)
		return c.write(packed, more)
	}
	if rcode != dns.RcodeSuccess {
		s.counters.badSignatures.Add(1)
		if signer.key != nil {
			s.access.Unproven(signer.name, c.from)
		}
		return send(new(dns.Msg).SetRcode(m, rcode), false)
	}
	if m.Opcode == dns.OpcodeUpdate {
		return s.update(ctx, m, signer.name, c, send)
	}
	if t := m.Question[0].Qtype; t == dns.TypeAXFR || t == dns.TypeIXFR {
		return s.transfer(m, c.from, c.tcp, signer.name, func(reply *dns.Msg) error { return send(reply, false) })
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
	if err := reply.Unpack(out[:s.directory.respond(packed, out, c.tcp)]); err != nil {
		return err
	}
	return send(reply, false)
}

// update has an update carried out. Of those over UDP so many may be under way that one more is left to ask again; over TCP
// the connection waits.
func (s *Server) update(ctx context.Context, m *dns.Msg, keyName string, c caller, send func(reply *dns.Msg, more bool) error) error {
	if s.access == nil {
		return send(new(dns.Msg).SetRcode(m, dns.RcodeRefused), false)
	}
	s.counters.updates.Add(1)
	if !c.tcp {
		if s.updating.Add(1) > updatesMost {
			s.updating.Add(-1)
			return nil
		}
		s.access.Update(ctx, m, keyName, c.from, func(rcode int, more bool) {
			s.updating.Add(-1)
			if err := send(new(dns.Msg).SetRcode(m, rcode), more); err != nil {
				s.log.Warn("the reply to an update could not be made", "error", err)
			}
		})
		return nil
	}
	done := make(chan int, 1)
	s.access.Update(ctx, m, keyName, c.from, func(rcode int, _ bool) { done <- rcode })
	select {
	case rcode := <-done:
		return send(new(dns.Msg).SetRcode(m, rcode), false)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// signer signs the replies to one request. The zero signer leaves them unsigned.
type signer struct {
	name, algorithm string
	key             *keyed
	mac             string // of the request, then of the reply before
	failure         uint16 // the TSIG error to report
	later           bool   // further messages of one reply sign timers only (RFC 8945 section 5.3.1)
}

// verify checks a request's signature, in the order of RFC 8945 section 5.2: key, MAC, time.
func (s *Server) verify(m *dns.Msg, req []byte) (*signer, int) {
	t := m.IsTsig()
	if t == nil {
		return &signer{}, dns.RcodeSuccess
	}
	out := &signer{name: dns.CanonicalName(t.Hdr.Name), algorithm: t.Algorithm, mac: t.MAC}
	known := false
	var algorithm, secret string
	if s.access != nil {
		algorithm, secret, known = s.access.Secret(out.name)
	}
	if !known || dns.CanonicalName(t.Algorithm) != algorithm {
		out.failure = dns.RcodeBadKey
		return out, dns.RcodeNotAuth
	}
	out.key = s.keys.of(out.name, algorithm, secret)
	switch err := dns.TsigVerifyWithProvider(req, out.key, "", false); {
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
	packed, mac, err := dns.TsigGenerateWithProvider(m, g.key, g.mac, g.later)
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
