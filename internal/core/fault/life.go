// Package fault decides the life of faults: which finding goes on with which fault, what comes back, what one outage explains at many
// sites, and when work is planned.
package fault

import (
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
)

// Known is a fault on record, open or closed lately.
type Known struct {
	Finding diagnose.Finding
	Opened  time.Time
	Closed  time.Time // zero while it is open
}

// ReopenWithin is how soon after it closed a fault that comes back is the same one.
const ReopenWithin = time.Hour

// Kind is what becomes of a fault, and of a line of its timeline.
type Kind string

// The kinds. Those that people do follow those that are decided.
const (
	Opened   Kind = "opened"
	Stays    Kind = "stays"
	Changed  Kind = "changed" // the same trouble, explained otherwise
	Reopened Kind = "reopened"
	Closed   Kind = "closed"
	Joined   Kind = "joined" // another fault explains it from now on

	Acknowledged Kind = "acknowledged"
	Assigned     Kind = "assigned"
	Noted        Kind = "noted"
	Judged       Kind = "judged"
)

// Step is what becomes of one fault. Of is its place in what is known, -1 for a new one; Found the place of the finding that it goes on
// with, -1 if it closes; Into the place of the finding that explains it now, for one that joins another.
type Step struct {
	Kind            Kind
	Of, Found, Into int
}

// Settle decides what becomes of the faults of one site when its diagnosis says found. Each finding is in one step, and so is each fault
// that was open.
func Settle(known []Known, found []diagnose.Finding, now time.Time) []Step {
	s := settling{known: known, found: found, taken: make([]bool, len(known)), done: make([]bool, len(found))}
	open := func(k Known) bool { return k.Closed.IsZero() }
	lately := func(k Known) bool { return !k.Closed.IsZero() && now.Sub(k.Closed) <= ReopenWithin }
	equal := func(a, b diagnose.Finding) bool { return a.Key() == b.Key() }
	s.pair(Stays, open, equal)
	s.pair(Changed, open, Same)
	s.pair(Reopened, lately, equal)
	s.pair(Reopened, lately, Same)
	for i := range found {
		if !s.done[i] {
			s.steps = append(s.steps, Step{Kind: Opened, Of: -1, Found: i, Into: -1})
		}
	}
	for i, k := range known {
		if !open(k) || s.taken[i] {
			continue
		}
		step := Step{Kind: Closed, Of: i, Found: -1, Into: -1}
		if into := slices.IndexFunc(found, func(f diagnose.Finding) bool { return Same(k.Finding, f) }); into >= 0 {
			step.Kind, step.Into = Joined, into
		}
		s.steps = append(s.steps, step)
	}
	return s.steps
}

type settling struct {
	known       []Known
	found       []diagnose.Finding
	taken, done []bool
	steps       []Step
}

// pair gives each finding that is left the oldest fault of some that is the same.
func (s *settling) pair(kind Kind, some func(Known) bool, same func(a, b diagnose.Finding) bool) {
	for i, f := range s.found {
		if s.done[i] {
			continue
		}
		best := -1
		for j, k := range s.known {
			if !s.taken[j] && some(k) && same(k.Finding, f) && (best < 0 || k.Opened.Before(s.known[best].Opened)) {
				best = j
			}
		}
		if best >= 0 {
			s.done[i], s.taken[best] = true, true
			s.steps = append(s.steps, Step{Kind: kind, Of: best, Found: i, Into: -1})
		}
	}
}

// Same reports whether two findings of a site are about one trouble, whatever each takes for its cause: they concern the same services, or
// the same part of the site. What can wait and what cannot are two troubles, and so are an open door and a closed one.
func Same(a, b diagnose.Finding) bool {
	if a.Key() == b.Key() {
		return true
	}
	if family(a) != family(b) {
		return false
	}
	if len(a.Services) > 0 && len(b.Services) > 0 {
		return slices.ContainsFunc(a.Services, func(name string) bool { return slices.Contains(b.Services, name) })
	}
	return a.Subject == b.Subject && a.Hop == b.Hop
}

// family names what a finding is a trouble of.
func family(f diagnose.Finding) string {
	switch cause := string(f.Cause); {
	case strings.HasPrefix(cause, "certificate-"):
		return "certificate"
	case strings.HasPrefix(cause, "exposed"):
		return "exposed"
	case f.Hop == diagnose.HopHostname:
		return "hostname"
	case f.Serious():
		return "cut off"
	}
	return cause(f)
}

func cause(f diagnose.Finding) string { return string(f.Cause) }
