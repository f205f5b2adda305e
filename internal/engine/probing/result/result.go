// Package result has what comes of a round: one probe of all ports of a service from one vantage point.
package result

import (
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/named"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Round is one probe of all ports of a service from one vantage point.
type Round struct {
	Service  site.Service `json:"-"`
	Site     string       // code
	Hostname string
	LinkID   int64
	Address  netip.Addr
	At       time.Time
	Outcome  probe.Outcome
	Latency  time.Duration // zero when nothing came back
	Took     time.Duration // that the round was waited for
	Message  string
	LeftOut  string // why it does not count, though it was made; "" when it does
	Held     bool   // it was not made, because the link is quarantined

	ICMP        probe.ICMP     // that ended the attempt which decided
	Hung        bool           // it accepted, and said nothing
	Decided     netip.AddrPort // what that attempt was made at, and over what
	Over        probe.Transport
	Series      *probe.Series // how far packets got; nil if that was not measured
	Fingerprint string
	Weakness    string
	Certificate *speak.Certificate
	Named       *named.Result
	Ways        []seen.Way
	Attempts    []probe.Attempt // of a story
}

// Where says where it was made.
func (r Round) Where() string {
	if !r.Address.IsValid() {
		return "at no address"
	}
	return "at " + netip.AddrPortFrom(r.Address, uint16(record.Ports(r.Service)[0])).String()
}

// WaysOf tells what a round found over each way.
func WaysOf(s site.Service, main, pinhole netip.Addr, tries []speak.Try) []seen.Way {
	if !s.Pinholed() {
		return nil
	}
	var out []seen.Way
	add := func(way site.Reach, at netip.Addr, port int) {
		w := seen.Way{Reach: way, Outcome: probe.Skipped, Message: "its address is not known, or not proven to be the site's"}
		if at.IsValid() {
			w.Target = netip.AddrPortFrom(at, uint16(port))
		}
		rule := probe.Rule{Expected: s.Expected}
		for _, t := range tries {
			if t.Target.Addr() == at && (w.Outcome == probe.Skipped || rule.Meaning(t.Outcome) == probe.NotWanted) {
				w.Outcome, w.Message = t.Outcome, t.Message
			}
		}
		out = append(out, w)
	}
	if s.Forwarded() {
		add(site.ByForward, main, s.ExternalFrom)
	}
	add(site.ByPinhole, pinhole, s.InternalFrom)
	return out
}

// Conclude adds what came of the attempts that were made.
func (r *Round) Conclude(out speak.Round, at time.Time) {
	r.At, r.Outcome, r.Latency, r.Message = at, out.Outcome, out.Latency, out.Deciding.Message
	if out.Inside {
		r.LeftOut, r.Message = speak.Insider, speak.Insider
	}
	r.ICMP, r.Hung, r.Decided, r.Over = out.Deciding.ICMP, out.Deciding.Hung, out.Deciding.Target, out.Deciding.Transport
	r.Fingerprint, r.Weakness = out.Deciding.Fingerprint, out.Deciding.Weakness
	if c := out.Deciding.Certificate; !c.Expires.IsZero() {
		r.Certificate = &c
	}
}

// UnknownPeerWords is why the silence of a WireGuard server says nothing to a vantage point that it never answered.
const UnknownPeerWords = "the server may not know this vantage point's key: add that as a peer"

// UnknownPeer reports whether silence is what a WireGuard server owes a vantage point whose key it does not know. Each has its own.
func UnknownPeer(s site.Service, vantage, own int64, results []seen.Result, o probe.Outcome) bool {
	if s.Kind != probe.KindWireGuard || s.ProbeKey == "" || vantage == own || o != probe.Silent {
		return false
	}
	i := slices.IndexFunc(results, func(v seen.Result) bool { return v.Vantage == vantage })
	return i < 0 || !results[i].Known
}

// LostBefore reports whether what was sent to a port may not have got behind the router.
func LostBefore(o probe.Outcome, d probe.Distance) bool {
	switch d {
	case probe.PassedOn, probe.RefusedBehind, probe.AnsweredBehind, probe.AnsweredByFirst:
		return false
	}
	return o == probe.Silent || o == probe.Refused || o == probe.Unroutable
}
