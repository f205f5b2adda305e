package authdns

import (
	"context"
	"crypto/hmac"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"time"

	"github.com/miekg/dns"
)

// Access decides who may do more than ask. A Server without one answers all of it with SERVFAIL: whoever asks comes back.
type Access interface {
	// Secret returns the algorithm ("hmac-sha256.") and base64 secret of a TSIG key, by its name with a final dot.
	Secret(keyName string) (algorithm, secret string, ok bool)
	// MayTransfer reports whether an address, or the holder of a key ("" for none), may have the whole zone.
	MayTransfer(apex string, from netip.Addr, keyName string) bool
	// Unproven is called for a request with a wrong signature by a known key; for an unknown key there is nobody to tell.
	Unproven(keyName string, from netip.Addr)
	// Update carries out a DNS UPDATE (RFC 2136) without blocking, and then calls reply once with its RCODE; more reports whether another
	// update's follows at once. keyName is "" for an unsigned one.
	Update(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr, reply func(rcode int, more bool))
}

const tsigFudge = 300 // seconds, RFC 8945 section 10

// caller is who sent a request, and how replies go back: with more, another reply follows at once.
type caller struct {
	from  netip.Addr
	tcp   bool
	write func(text []byte, more bool) error
}

// slow parses a request as a whole: transfers, updates, and questions that are signed (RFC 8945). An update over UDP is answered later.
func (s *Server) slow(ctx context.Context, req []byte, c caller) error {
	m := new(dns.Msg)
	if err := m.Unpack(req); err != nil {
		var q query
		q.id = uint16(req[0])<<8 | uint16(req[1])
		q.flags = uint16(req[2])<<8 | uint16(req[3])
		out := make([]byte, headerSize)
		return c.write(out[:q.bare(out, dns.RcodeFormatError)], false)
	}
	access := s.granted()
	if access == nil {
		return c.write(failed(req), false)
	}
	signer, rcode := s.verify(m, req, access, time.Now())
	send := func(reply *dns.Msg) error {
		packed, err := reply.Pack()
		if err != nil {
			return err
		}
		s.counters.answered.Add(1)
		return c.write(signer.sign(packed, time.Now()), false)
	}
	if rcode != dns.RcodeSuccess {
		s.counters.badSignatures.Add(1)
		if signer.key != nil {
			access.Unproven(signer.name, c.from)
		}
		return send(new(dns.Msg).SetRcode(m, rcode))
	}
	if m.Opcode == dns.OpcodeUpdate {
		return s.update(ctx, m, req, access, signer, c)
	}
	if t := m.Question[0].Qtype; t == dns.TypeAXFR || t == dns.TypeIXFR {
		return s.transfer(m, access, c.from, c.tcp, signer.name, send)
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
	return send(reply)
}

// update has an update carried out. Over UDP, updates beyond a bound are dropped for the sender to retry; over TCP the connection waits.
func (s *Server) update(ctx context.Context, m *dns.Msg, req []byte, access Access, signer signer, c caller) error {
	blank := replyTo(req)
	answer := func(rcode int, more bool) error {
		s.counters.answered.Add(1)
		blank[3] = blank[3]&^0xF | byte(rcode)
		return c.write(signer.sign(blank, time.Now()), more)
	}
	s.counters.updates.Add(1)
	if !c.tcp {
		if s.updating.Add(1) > maxUpdates {
			s.updating.Add(-1)
			return nil
		}
		access.Update(ctx, m, signer.name, c.from, func(rcode int, more bool) {
			s.updating.Add(-1)
			_ = answer(rcode, more)
		})
		return nil
	}
	done := make(chan int, 1)
	access.Update(ctx, m, signer.name, c.from, func(rcode int, _ bool) { done <- rcode })
	select {
	case rcode := <-done:
		return answer(rcode, false)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// failed is the reply to a request that nobody can decide on at present.
func failed(req []byte) []byte {
	out := replyTo(req)
	out[3] = dns.RcodeServerFailure
	return out
}

// replyTo begins the reply to an update: its ID, opcode and zone, with room for a signature (RFC 2136 section 3.8).
func replyTo(req []byte) []byte {
	end := headerSize
	if binary.BigEndian.Uint16(req[4:]) == 1 {
		if off := skipName(req, headerSize); off >= 0 && off+4 <= len(req) {
			end = off + 4
		}
	}
	out := append(make([]byte, 0, end+256), req[:end]...)
	out[2], out[3] = out[2]&0x78|0x80, 0
	clear(out[4:headerSize])
	if end > headerSize {
		out[5] = 1
	}
	return out
}

// signer signs the replies to one request. The zero signer leaves them unsigned.
type signer struct {
	name, algorithm string // of the request's key; the name is in lower case
	key             *keyed
	mac             []byte // of the request, then of the reply before
	asked           uint64 // when the request was signed
	failure         uint16 // the TSIG error to report
	later           bool   // further messages of one reply sign timers only (RFC 8945 section 5.3.1)
}

// verify checks a request's signature, in the order of RFC 8945 section 5.2: key, MAC, time.
func (s *Server) verify(m *dns.Msg, req []byte, access Access, now time.Time) (signer, int) {
	t := m.IsTsig()
	switch n := signatures(m); {
	case n > 1, n == 1 && (t == nil || t.Hdr.Rdlength == 0): // it is the last record, and the only one (RFC 8945 section 5.1)
		return signer{}, dns.RcodeFormatError
	case t == nil:
		return signer{}, dns.RcodeSuccess
	}
	out := signer{name: dns.CanonicalName(t.Hdr.Name), algorithm: dns.CanonicalName(t.Algorithm), asked: t.TimeSigned}
	plain := unsigned(req)
	if plain == nil {
		return signer{}, dns.RcodeFormatError // it counts more records than it has
	}
	algorithm, secret, known := access.Secret(out.name)
	if known = known && out.algorithm == algorithm; known {
		out.key, known = s.keys.of(out.name, algorithm, secret)
	}
	if !known {
		out.failure = dns.RcodeBadKey
		return out, dns.RcodeNotAuth
	}
	// A truncated MAC is none (RFC 8945 section 5.2.2.1 leaves that to us).
	given, err := hex.DecodeString(t.MAC)
	if err != nil || !hmac.Equal(given, out.key.digest(nil, plain,
		stamp{time: t.TimeSigned, fudge: t.Fudge, failure: t.Error, original: t.OrigId}, false)) {
		out.failure = dns.RcodeBadSig
		return out, dns.RcodeNotAuth
	}
	out.mac = given
	if at := uint64(now.Unix()); max(at, t.TimeSigned)-min(at, t.TimeSigned) > uint64(t.Fudge) {
		out.failure = dns.RcodeBadTime
		return out, dns.RcodeNotAuth
	}
	return out, dns.RcodeSuccess
}

// signatures counts the TSIG records of a message.
func signatures(m *dns.Msg) (n int) {
	for _, section := range [][]dns.RR{m.Answer, m.Ns, m.Extra} {
		for _, rr := range section {
			if rr.Header().Rrtype == dns.TypeTSIG {
				n++
			}
		}
	}
	return n
}

// unsigned returns a signed request as it was before it was signed, but for its ID; nil if no record of it is the last.
func unsigned(req []byte) []byte {
	at := lastRecord(req)
	if at < 0 {
		return nil
	}
	out := append(make([]byte, 0, at), req[:at]...)
	binary.BigEndian.PutUint16(out[10:], binary.BigEndian.Uint16(out[10:])-1)
	return out
}

func (g *signer) sign(packed []byte, now time.Time) []byte {
	if g.name == "" {
		return packed
	}
	t := stamp{time: uint64(now.Unix()), fudge: tsigFudge, failure: g.failure, original: binary.BigEndian.Uint16(packed)}
	if g.failure == dns.RcodeBadTime { // our clock goes along, under the client's time (RFC 8945 section 5.2.3)
		t.other, t.time = appendTime(nil, t.time), g.asked
	}
	if g.key == nil || g.failure == dns.RcodeBadSig { // nobody could check it (section 5.3.2)
		return appendTSIG(packed, wireName(g.name), wireName(g.algorithm), nil, t)
	}
	mac := g.key.digest(g.mac, packed, t, g.later)
	g.mac, g.later = mac, true
	return appendTSIG(packed, g.key.name, g.key.algorithm, mac, t)
}
