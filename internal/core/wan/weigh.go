package wan

import (
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// Limits of a weighing.
const (
	StaleAfter   = 10 * time.Minute // an older report says nothing about now
	FlapWindow   = 5 * time.Minute
	FlapMost     = 4           // a link with this many moves within FlapWindow is flapping
	SteadyBefore = time.Minute // a flapping link is believed again once it has said the same for this long
	// WithdrawAfter is how many full reports in a row must lack a family before the link's address of it is withdrawn.
	WithdrawAfter = 3
)

// Weighing is everything that is known of one link's address at one moment.
type Weighing struct {
	Now     time.Time
	Current Pair // what the hostnames answer now
	// Order lists the sources that are set for the link, the most trusted first. Empty stands for the usual order. A report
	// of a source that is not in it is not weighed, save for what the server observed itself.
	Order   []Source
	Reports []Report
	// RouterWAN is the router's WAN address where an operator typed it; a gateway that answers is believed first.
	RouterWAN netip.Addr
	// Chain lists the hops from the device outwards as far as they could be seen.
	Chain []netip.Addr
	// Lacks counts the full reports in a row, this one included, that had no address of IPv4 and of IPv6. Own are the addresses that
	// reports brought: others are not theirs to withdraw.
	Lacks [2]int
	Own   Pair
	// Moves are the times of recent moves; the sources have said what they say now since Since.
	Moves  []time.Time
	Since  time.Time
	Policy Policy
}

// DefaultOrder is the order of sources if none is set.
var DefaultOrder = []Source{SourceObserved, SourceSTUN, SourceGateway, SourceInterface, SourceFixed}

// Judgement is what a weighing comes to.
type Judgement struct {
	Addresses Pair
	Changed   bool
	// Withdrawn are the addresses that the link no longer has.
	Withdrawn Pair
	// Held says why an address that differs is not taken yet; "" if nothing is held back.
	Held     string
	Reason   string // of the decision, in words
	Dissents []Dissent
	NAT      NAT
}

// Weigh decides a link's addresses from all sources, each family on its own. A source alone never moves a hostname against another that
// sees it differently: two that agree win over one; where it is one against one, the server's own view of an authenticated connection
// counts, and if that is not among them what is published stays.
func Weigh(w Weighing) Judgement {
	if len(w.Order) == 0 {
		w.Order = DefaultOrder
	}
	out := Judgement{Addresses: w.Current}
	agreed := true
	for _, six := range []bool{false, true} {
		address, reason, dissents := w.family(six)
		out.Dissents = append(out.Dissents, dissents...)
		if address.IsValid() && address != w.Current.Of(six) {
			agreed = agreed && w.agreed(six, address)
		}
		if !address.IsValid() && w.gone(six) {
			out.Withdrawn = out.Withdrawn.With(six, w.Current.Of(six))
			out.Addresses = out.Addresses.With(six, netip.Addr{})
			out.Changed = true
			reason = fmt.Sprintf("%s is withdrawn: %d full reports in a row were without it", w.Current.Of(six), WithdrawAfter)
		}
		if address.IsValid() && address != w.Current.Of(six) {
			out.Addresses = out.Addresses.With(six, address)
			out.Changed = true
		}
		if reason != "" {
			if out.Reason != "" {
				out.Reason += "; "
			}
			out.Reason += reason
		}
	}
	if out.Changed && !agreed {
		if held := w.flapping(); held != "" {
			out.Held, out.Addresses, out.Changed, out.Withdrawn = held, w.Current, false, Pair{}
		}
	}
	out.NAT = w.nat(out.Addresses.IPv4)
	return out
}

// voice is one usable report of a family.
type voice struct {
	Report
	address netip.Addr
}

func (w Weighing) family(six bool) (chosen netip.Addr, reason string, dissents []Dissent) {
	var voices []voice
	dissent := func(r Report, a netip.Addr, words string) {
		dissents = append(dissents, Dissent{Source: r.Source, Via: r.Via, Address: a, Words: words})
	}
	for _, r := range w.Reports {
		a := r.Addresses.Of(six)
		switch {
		case !a.IsValid(), r.Problem != "", r.Source != SourceObserved && !slices.Contains(w.Order, r.Source):
		case w.Now.Sub(r.At) > StaleAfter:
			dissent(r, a, fmt.Sprintf("it is %s old and out of date", w.Now.Sub(r.At).Round(time.Second)))
		case r.At.After(w.Now.Add(time.Minute)):
			dissent(r, a, "it is dated in the future: the clock at the site is wrong")
		case w.Policy.Check(a) != nil && r.Source.SeenFromOutside():
			dissent(r, a, fmt.Sprintf("a %s address cannot be what is seen from outside: it is asked inside the provider's or the "+
				"site's own network", w.Policy.Class(a)))
		case w.Policy.Check(a) != nil && r.Source == SourceGateway && w.Policy.Class(a) == ClassUnspecified:
			dissent(r, a, "the router has no connection, or does not know its address")
		case w.Policy.Check(a) != nil: // a private WAN address tells of NAT, and is no candidate
			if r.Source == SourceFixed {
				dissent(r, a, fmt.Sprintf("the fixed address is a %s one and cannot be reached from outside", w.Policy.Class(a)))
			}
		default:
			voices = append(voices, voice{r, a})
		}
	}
	if len(voices) == 0 {
		return chosen, "", dissents
	}
	chosen, reason = w.choose(six, voices)
	for _, v := range voices {
		if v.address != chosen {
			dissent(v.Report, v.address, against(v, chosen))
		}
	}
	return chosen, reason, dissents
}

func against(v voice, chosen netip.Addr) string {
	decided := "nothing is decided against what is published"
	if chosen.IsValid() {
		decided = fmt.Sprintf("the link is at %s", chosen)
	}
	switch v.Source {
	case SourceSTUN:
		return fmt.Sprintf("the STUN server says %s, and %s: its answer is forged, or its traffic takes another way", v.address, decided)
	case SourceGateway:
		return fmt.Sprintf("the router says %s, and %s: it has not noticed its new address, or another device in front of "+
			"it translates", v.address, decided)
	case SourceInterface:
		return fmt.Sprintf("the interface has %s, and %s: traffic leaves by another interface or a tunnel", v.address, decided)
	case SourceFixed:
		return fmt.Sprintf("%s was entered as fixed, but %s: the provider has changed it, or it was mistyped", v.address, decided)
	}
	return fmt.Sprintf("the server sees %s, and %s: the announcement takes another way, such as a tunnel or a proxy", v.address, decided)
}

// choose picks the address of one family. Zero means that nothing is decided, and what is published stays.
func (w Weighing) choose(six bool, voices []voice) (netip.Addr, string) {
	current := w.Current.Of(six)
	rank := func(s Source) int {
		if i := slices.Index(w.Order, s); i >= 0 {
			return i
		}
		return len(w.Order)
	}
	slices.SortStableFunc(voices, func(a, b voice) int { return rank(a.Source) - rank(b.Source) })
	if f := slices.IndexFunc(voices, func(v voice) bool { return v.Source == SourceFixed }); f == 0 {
		return voices[0].address, fmt.Sprintf("%s is fixed", voices[0].address)
	}
	backers := map[netip.Addr][]Source{}
	for _, v := range voices {
		if !slices.Contains(backers[v.address], v.Source) {
			backers[v.address] = append(backers[v.address], v.Source)
		}
	}
	seen := slices.ContainsFunc(voices, func(v voice) bool { return v.Source.SeenFromOutside() })
	var best netip.Addr
	tie := false
	for _, v := range voices { // in order, so that the first of equals is the most trusted
		if seen && !slices.ContainsFunc(backers[v.address], Source.SeenFromOutside) {
			continue // somebody saw the link from outside, and not there
		}
		switch n := len(backers[v.address]); {
		case !best.IsValid() || n > len(backers[best]):
			best, tie = v.address, false
		case v.address != best && n == len(backers[best]):
			tie = true
		}
	}
	if !tie {
		by := backers[best]
		if len(by) == 1 && by[0] != SourceObserved && slices.Contains(w.Order, SourceObserved) && best != current {
			return netip.Addr{}, fmt.Sprintf("%s by %s alone: a second source has to agree", best, by[0])
		}
		return best, fmt.Sprintf("%s by %s", best, spell(by))
	}
	for _, v := range voices {
		if v.Source == SourceObserved && len(backers[v.address]) == len(backers[best]) {
			return v.address, fmt.Sprintf("%s as the server sees it, against %d other", v.address, len(backers)-1)
		}
	}
	return netip.Addr{}, fmt.Sprintf("the sources disagree, and %s stays", orNone(current))
}

func orNone(a netip.Addr) string {
	if !a.IsValid() {
		return "no address"
	}
	return a.String()
}

func spell(list []Source) string {
	out := ""
	for i, s := range list {
		switch {
		case i > 0 && i == len(list)-1:
			out += " and "
		case i > 0:
			out += ", "
		}
		out += string(s)
	}
	return out
}

// agreed reports whether everybody who gives an address of a family gives this one, the server among them, which sees it on an
// authenticated connection: such an address is followed however often it changes.
func (w Weighing) agreed(six bool, address netip.Addr) bool {
	seen := false
	for _, r := range w.Reports {
		a := r.Addresses.Of(six)
		if !a.IsValid() || r.Problem != "" || w.Policy.Check(a) != nil || w.Now.Sub(r.At) > StaleAfter {
			continue
		}
		if a != address {
			return false
		}
		seen = seen || r.Source == SourceObserved
	}
	return seen
}

// Lacking reports whether a full report is without any usable address of a family, while it has one of the other.
func (w Weighing) Lacking(six bool) bool {
	has := [2]bool{}
	for _, r := range w.Reports {
		for i, family := range []bool{false, true} {
			a := r.Addresses.Of(family)
			has[i] = has[i] || a.IsValid() && r.Problem == "" && w.Policy.Check(a) == nil && w.Now.Sub(r.At) <= StaleAfter
		}
	}
	return six && !has[1] && has[0] || !six && !has[0] && has[1]
}

// gone reports whether an address that reports brought has been missing from them for long enough.
func (w Weighing) gone(six bool) bool {
	lacks := w.Lacks[0]
	if six {
		lacks = w.Lacks[1]
	}
	current := w.Current.Of(six)
	return current.IsValid() && current == w.Own.Of(six) && lacks >= WithdrawAfter && w.Current.Of(!six).IsValid()
}

// flapping says why a link that moves to and fro is not followed now; "" if it is.
func (w Weighing) flapping() string {
	count := 0
	for _, at := range w.Moves {
		if w.Now.Sub(at) < FlapWindow {
			count++
		}
	}
	if count < FlapMost || !w.Since.IsZero() && w.Now.Sub(w.Since) >= SteadyBefore {
		return ""
	}
	return fmt.Sprintf("the address changed %d times within %d minutes; it is followed again when it has stayed the same for %d s",
		count, int(FlapWindow.Minutes()), int(SteadyBefore.Seconds()))
}
