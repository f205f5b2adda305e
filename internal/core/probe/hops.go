package probe

import (
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// HopAnswer is what came back for a packet with a hop limit.
type HopAnswer struct {
	Limit int      `json:"limit"`
	Reply HopReply `json:"reply"`
	ICMP  ICMP     `json:"icmp,omitzero"`
}

// HopReply is what came back, in one word.
type HopReply string

// The replies. Accepted is also said of a datagram that was answered.
const (
	HopNothing  HopReply = "nothing"
	HopAccepted HopReply = "accepted"
	HopReset    HopReply = "reset" // RST
	HopNotice   HopReply = "icmp"
)

// exceeded reports whether the packet's limit ended at an address.
func (a HopAnswer) exceeded() bool { return a.Reply == HopNotice && a.ICMP.Notice() == TimeExceeded }

// refused reports whether the port was refused, by RST or ICMP.
func (a HopAnswer) refused() bool {
	return a.Reply == HopReset || a.Reply == HopNotice && !a.exceeded() && a.ICMP.Notice() != OtherNotice
}

// Calibration is how far a working port of an address is, seen from one vantage point. The zero Calibration knows nothing.
type Calibration struct {
	// Router is the smallest hop limit that ends at the site's own address, NATs how many ends there are there, one after another, and Open
	// the smallest limit with which the port answers. Router is 0 where nothing at the site says that a limit ended there.
	Router int       `json:"router,omitempty"`
	NATs   int       `json:"nats,omitempty"`
	Open   int       `json:"open"`
	Before bool      `json:"before,omitempty"` // the hop before Router says that a limit ended there
	At     time.Time `json:"at"`
	// Gateway is the router's own address, where that is none of the site's: in IPv6 it speaks from outside of the site's prefix.
	Gateway netip.Addr `json:"gateway,omitzero"`
}

// ends reports whether the limit of a packet ended at the site.
func (c Calibration) ends(a HopAnswer, target netip.Addr) bool {
	return a.exceeded() && (OfSite(a.ICMP.From, target) || c.Gateway.IsValid() && a.ICMP.From == c.Gateway)
}

// Known reports whether there is one.
func (c Calibration) Known() bool { return c.Open > 0 }

// Calibrate reads the answers of a port that works. ok is false where it did not answer.
func Calibrate(answers []HopAnswer, target netip.Addr, at time.Time) (c Calibration, ok bool) {
	said := map[int]bool{}
	var last HopAnswer
	for _, a := range ordered(answers) {
		if said[a.Limit] = a.exceeded(); said[a.Limit] && c.Open == 0 {
			last = a
		}
		switch {
		case a.Reply == HopAccepted && c.Open == 0:
			c.Open = a.Limit
		case c.Open == 0 && a.exceeded() && OfSite(a.ICMP.From, target):
			if c.Router == 0 {
				c.Router = a.Limit
			}
			c.NATs++
		}
	}
	if !target.Unmap().Is4() && c.Router == 0 && c.Open > 1 && last.Limit == c.Open-1 {
		c.Router, c.NATs, c.Gateway = last.Limit, 1, last.ICMP.From // nothing is translated: it is the one right before the device
	}
	c.At, c.Before = at, c.Router > 1 && said[c.Router-1]
	return c, c.Open > 0
}

// Limits are the hop limits that say most of a port that fails: from the last hop before the site to one more than what works; all up to
// longest where that is not known.
func (c Calibration) Limits(longest int) (out []int) {
	from, to := 1, longest
	if c.Known() {
		from, to = max(1, c.Open-1), c.Open+1
		if c.Router > 0 {
			from = max(1, c.Router-1)
		}
	}
	for n := from; n <= to; n++ {
		out = append(out, n)
	}
	return out
}

func ordered(answers []HopAnswer) []HopAnswer {
	out := slices.Clone(answers)
	slices.SortFunc(out, func(a, b HopAnswer) int { return a.Limit - b.Limit })
	return out
}

// Distance is how far packets to a port get.
type Distance string

// The distances. First and Inner are the translating devices of a site, counted from outside: a lone router is the first.
const (
	DistanceUnknown Distance = ""
	PassedOn        Distance = "passed on"        // every device that translates passed it on
	EndsAtFirst     Distance = "ends at first"    // it got to the site, and nothing passed it on
	EndsAtInner     Distance = "ends at inner"    // the first passed it on, the one behind it did not
	EndsBefore      Distance = "ends before"      // it did not get to the site
	RefusedByFirst  Distance = "refused at first" // the first refused it
	RefusedByInner  Distance = "refused at inner"
	RefusedBehind   Distance = "refused behind"
	AnsweredByFirst Distance = "answered at first" // somebody before the LAN accepts it
	AnsweredBehind  Distance = "answered behind"
)

// Series is the hop-limited probing of one port.
type Series struct {
	Answers     []HopAnswer `json:"answers"`
	Calibration Calibration `json:"calibration,omitzero"`
	Distance    Distance    `json:"distance,omitempty"`
	At          time.Time   `json:"at"`
	Problem     string      `json:"problem,omitempty"` // why it could not be made
}

// Read says how far the packets got: from what was answered, and from what a working port of the same address needs. Where nothing is
// known of a working port, silence says nothing; an answer still says from where it came.
func Read(answers []HopAnswer, target netip.Addr, c Calibration) Distance {
	list := ordered(answers)
	nats, answered := 0, HopAnswer{}
	before := map[int]bool{} // limits at which somebody said that the packet ended there
	for _, a := range list {
		if a.exceeded() {
			before[a.Limit] = true
			if c.ends(a, target) {
				nats++
			}
		} else if answered.Limit == 0 && a.Reply != HopNothing {
			answered = a
		}
	}
	needed := c.NATs
	if c.Router == 0 {
		needed = 0
	}
	switch {
	case answered.Limit > 0 && answered.refused() && !OfSite(answered.ICMP.From, target) && answered.ICMP.From != c.Gateway &&
		answered.Reply == HopNotice:
		return DistanceUnknown // somebody on the way said no: the message says it all
	case answered.Limit > 0 && (answered.refused() || answered.Reply == HopAccepted):
		return fromAnswer(answered, nats, needed, c, before, target.Unmap().Is4())
	case nats > 0 && needed > nats:
		return EndsAtInner
	case nats > 0:
		return PassedOn
	case c.Router == 0:
		return DistanceUnknown // a router that never says that a limit ended there
	case c.Before && !before[c.Router-1]:
		return EndsBefore
	}
	return EndsAtFirst
}

// fromAnswer says how far away an answer was given: nats devices passed the packet on before it.
func fromAnswer(a HopAnswer, nats, needed int, c Calibration, before map[int]bool, translated bool) Distance {
	accepted := a.Reply == HopAccepted
	choose := func(ifAccepted, ifRefused Distance) Distance {
		if accepted {
			return ifAccepted
		}
		return ifRefused
	}
	switch {
	case a.Reply == HopNotice && a.ICMP.Notice() == HostUnreachable:
		return PassedOn // the router looked for the device
	case nats > 0 && needed > nats && a.Limit <= c.Router+nats:
		return choose(AnsweredByFirst, RefusedByInner)
	case nats > 0:
		return choose(AnsweredBehind, RefusedBehind)
	case c.Router > 0 && a.Limit <= c.Router:
		return choose(AnsweredByFirst, RefusedByFirst)
	case c.Router == 0 && c.Known():
		return DistanceUnknown
	case before[a.Limit-1] && translated: // the hop before it is on the way: it is the first of the site
		return choose(AnsweredByFirst, RefusedByFirst)
	}
	return DistanceUnknown
}

// Known reports whether d is one of the distances.
func (d Distance) Known() bool { return d == DistanceUnknown || distanceWords[d] != "" }

var distanceWords = map[Distance]string{PassedOn: "the site's router passes it on", EndsAtFirst: "it ends at the site's router, or just " +
	"before it", EndsAtInner: "the first router of the site passes it on, and the one behind it does not", EndsBefore: "it ends before " +
	"the site", RefusedByFirst: "the site's router refuses it", RefusedByInner: "the router behind the modem refuses it",
	RefusedBehind: "a machine behind the router refuses it", AnsweredByFirst: "the site's router answers it itself",
	AnsweredBehind: "a machine behind the router answers it"}

// Words tells a series for people: a line for each hop limit.
func (s Series) Words() (out []string) {
	if s.Problem != "" {
		return []string{s.Problem}
	}
	for _, a := range ordered(s.Answers) {
		word := string(a.Reply)
		if a.Reply == HopNotice {
			word = a.ICMP.String()
		}
		out = append(out, fmt.Sprintf("hop limit %d: %s", a.Limit, word))
	}
	if words := distanceWords[s.Distance]; words != "" {
		out = append(out, "so "+words)
	}
	return out
}

// Ends reports whether a distance was read from silence.
func (d Distance) Ends() bool { return d == EndsAtFirst || d == EndsAtInner || d == EndsBefore }
