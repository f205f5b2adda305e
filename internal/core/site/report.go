package site

import (
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// LinkReport is what is known of a link from the site's side: what the agent's sources said last, and what was judged of it. It is not
// changed in place.
type LinkReport struct {
	NAT      wan.NAT
	Reason   string // why the address is the one that it is
	Held     string // why another address is not followed
	Sources  []SourceReport
	Agent    string // version and platform
	Protocol int
	Up       time.Time // since when its machine has been up, or else the agent; zero if it does not say
	Resolver string    // what is wrong with name resolution at the site
	Cannot   []string  // what the agent cannot do there
	Reported time.Time
	Refused  []Refusal
	// Rhythm is how often a router without an agent announces; 0 when that is not known.
	Rhythm time.Duration
	// Own holds the addresses that the agent's reports brought: those are the agent's to withdraw.
	Own wan.Pair
}

// SourceReport is what one source said last.
type SourceReport struct {
	Source    wan.Source
	Via       string
	Addresses wan.Pair
	At        time.Time
	Problem   string
	Dissent   string // how it differs from what was decided
}

// Refusal counts announcements that were refused for one reason.
type Refusal struct {
	Reason string
	From   netip.Addr
	Count  int
	// Stranger reports that the sender has shown nothing of the site's: anybody on the internet can cause that.
	Stranger    bool
	First, Last time.Time
}

// SameAs reports whether two reports differ in nothing but when they were made.
func (r LinkReport) SameAs(other LinkReport) bool {
	timeless := func(r LinkReport) LinkReport {
		r.Reported, r.Sources = time.Time{}, slices.Clone(r.Sources)
		for i := range r.Sources {
			r.Sources[i].At = time.Time{}
		}
		return r
	}
	a, b := timeless(r), timeless(other)
	return a.Reason == b.Reason && a.Held == b.Held && a.Agent == b.Agent && a.Protocol == b.Protocol && a.Resolver == b.Resolver &&
		a.Rhythm == b.Rhythm && a.Own == b.Own && a.Up.Equal(b.Up) &&
		a.NAT.Verdict == b.NAT.Verdict && a.NAT.RouterWAN == b.NAT.RouterWAN && a.NAT.Seen == b.NAT.Seen && a.NAT.Words == b.NAT.Words &&
		slices.Equal(a.NAT.Chain, b.NAT.Chain) && slices.Equal(a.NAT.Remedies, b.NAT.Remedies) && slices.Equal(a.Cannot, b.Cannot) &&
		slices.Equal(a.Sources, b.Sources) && slices.Equal(a.Refused, b.Refused)
}
