package notice

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
)

// What is said in a notice.
type What string

// What is said of faults, of moves, and of several things at once.
const (
	Opened   What = "opened"
	Changed  What = "changed"  // the diagnosis is another
	Again    What = "again"    // it is still open
	Unsteady What = "unsteady" // it comes and goes: nothing more is said until it is steady
	Over     What = "over"
	Moved    What = "moved"
	Several  What = "several"
	Digest   What = "digest"
	Test     What = "test"
)

// Fault is what the decision needs of a fault.
type Fault struct {
	ID           int64
	Place        fault.Place
	Under        []fault.Place // the sites that a provider's fault explains: whoever is told of one of them is told of it
	Cause        causes.Slug
	Serious      bool
	Opened       time.Time
	Closed       time.Time // zero while it is open
	Turned       time.Time // when it last opened, changed, came back or closed
	Returns      int
	Explained    bool // a fault of the provider explains it, and is told
	Planned      bool // planned work is under way there
	Acknowledged bool
}

// Told is what a recipient was told of a fault.
type Told struct {
	What    What
	Cause   causes.Slug
	Returns int
	At      time.Time
}

const (
	// darkHold is how long a dark site waits before it is told: others of its provider may follow.
	darkHold = 2 * time.Minute
	// settleHold is how long what can wait does so, and what is explained anew: while a site comes back, its services do so one by one.
	settleHold = time.Minute
	// overHold is how long what is over has to stay so before that is told.
	overHold = time.Minute
	// Steady is how long what comes and goes has to stay as it is before anything is said of it again.
	Steady = time.Hour
	// unsteadyFrom is how often a fault comes back within what was told of it before that is said.
	unsteadyFrom = 3
)

// Covers reports whether the rule is about a fault at all. What explains the faults of several sites is for those who see all of them; who
// does not is told of each.
func (r Rule) Covers(f Fault) bool {
	in := r.Within(f.Place) || r.Sight.All() && slices.ContainsFunc(f.Under, r.Scope.Covers)
	return r.Topic == Faults && in && (len(r.Causes) == 0 || slices.Contains(r.Causes, f.Cause)) &&
		(!r.Serious || f.Serious)
}

// Next returns what a recipient has to be told of a fault now, given what they were told of it, in order; "" for nothing.
func (r Rule) Next(f Fault, told []Told, now time.Time) What {
	var last Told
	if len(told) > 0 {
		last = told[len(told)-1]
	}
	switch {
	case f.Planned || !r.Hours.Open(now) || r.Topic != Faults:
		return ""
	case !f.Closed.IsZero():
		return nextClosed(f, last, now)
	case !r.Covers(f) || f.Explained && r.Sight.All():
		return ""
	case r.AfterMinutes > 0 && last.What == "" && (f.Acknowledged || now.Sub(f.Opened) < time.Duration(r.AfterMinutes)*time.Minute):
		return ""
	}
	return r.nextOpen(f, last, now)
}

func nextClosed(f Fault, last Told, now time.Time) What {
	since := now.Sub(f.Closed)
	switch {
	case last.What == "" || last.What == Over || f.Explained || since < overHold, last.What == Unsteady && since < Steady:
		return ""
	}
	return Over
}

func (r Rule) nextOpen(f Fault, last Told, now time.Time) What {
	switch {
	case last.What == "" && now.Sub(f.Turned) < f.hold():
		return ""
	case last.What == "":
		return Opened
	case last.What == Unsteady && now.Sub(f.Turned) < Steady:
		return ""
	case last.What == Unsteady:
		return Again
	case last.What == Over, f.Returns-last.Returns >= unsteadyFrom:
		return Unsteady
	case f.Cause != last.Cause && now.Sub(f.Turned) >= f.hold():
		return Changed
	case r.AgainMinutes > 0 && !f.Acknowledged && now.Sub(last.At) >= time.Duration(r.AgainMinutes)*time.Minute:
		return Again
	}
	return ""
}

// hold is how long a fault stays as it is before that is told. What cuts somebody off is told at once, as it is first explained.
func (f Fault) hold() time.Duration {
	switch {
	case f.Cause == "site-dark" || f.Cause == "provider-outage":
		return darkHold
	case !f.Serious || !f.Turned.Equal(f.Opened):
		return settleHold
	}
	return 0
}
