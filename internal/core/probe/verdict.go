package probe

import "time"

// State of a service over all vantage points.
type State string

// The states of a service.
const (
	StateReachable   State = "reachable"
	StateImpaired    State = "impaired" // reachable from some vantage points only
	StateUnreachable State = "unreachable"
	StateExposed     State = "exposed" // expected closed, yet open
	StateUnknown     State = "unknown"
)

// Confirmations is how many equal results in a row it takes before a service's state changes for the worse.
const Confirmations = 3

// View is what one vantage point last saw: the outcome, how many times in a row with the same meaning, when the first of
// those was and when the last.
type View struct {
	Outcome Outcome
	InRow   int
	Since   time.Time
	At      time.Time
}

// Rule says how the views of a service are judged.
type Rule struct {
	Expected Expected
	Mute     bool          // silence proves nothing
	Sustain  time.Duration // how long a result for the worse has to last
	Stale    time.Duration // an older view does not count; 0 for no bound
	Tenancy  Tenancy       // whether the address may have become somebody else's
	Beside   time.Time     // since when another service at the same address fails, which is why this one was looked at; zero if none does
}

// Tenancy is what is known of whether a site still has the address at which its services are probed. The zero Tenancy is that of an
// address that stays.
type Tenancy struct {
	Heard    time.Time     // when the site was last heard from there; where that is before anybody listened: since when somebody does
	Patience time.Duration // how long after it a new address may take to be announced: a check interval and its travel
}

// Settling reports whether a failure may be the old address's and not the service's: whoever announces the site's address keeps its
// rhythm, and has not been heard since the failure began, nor is its next word overdue.
func (t Tenancy) Settling(since, at time.Time) bool {
	return !since.Before(t.Heard) && at.Sub(t.Heard) < t.Patience
}

// Meaning of an outcome under a rule.
type Meaning int

// The meanings.
const (
	Nothing Meaning = iota // it says nothing of the service
	AsWanted
	NotWanted
)

// Meaning says what an outcome means for the service's owner.
func (r Rule) Meaning(o Outcome) Meaning {
	if o == Skipped || o == "" || r.Mute && o == Silent {
		return Nothing
	}
	if o.Good() == (r.Expected != ExpectClosed) && o.Open() == (r.Expected != ExpectClosed) {
		return AsWanted
	}
	return NotWanted
}

// Settled reports whether a view that is not wanted may count: it was the same often enough, and for long enough, at an address that is
// the site's. What fails beside another service at the same address, and began a moment after it, need not be seen as often once more, nor
// for as long.
func (r Rule) Settled(v View) bool {
	enough, since := Confirmations, v.Since
	if r.Beside.Before(since) && since.Sub(r.Beside) <= r.Sustain {
		enough, since = enough-1, r.Beside
	}
	return v.InRow >= enough && v.At.Sub(since) >= r.Sustain && !r.Tenancy.Settling(v.Since, v.At)
}

// Next returns the view after one more outcome at the time at.
func (r Rule) Next(v View, o Outcome, at time.Time) View {
	if v.InRow > 0 && r.Meaning(v.Outcome) == r.Meaning(o) {
		v.InRow++
	} else {
		v.InRow, v.Since = 1, at
	}
	v.Outcome, v.At = o, at
	return v
}

// Verdict judges a service by the views of all vantage points, given its state so far. A good result counts at once; a bad one only when it
// is settled, and until then the state stays what it was. With several vantage points more than half of them have to agree before a service
// is unreachable, and half of them, for three times as long, before it is impaired: one that is on its own with what it sees changes
// nothing. Both have to hold at the same time: at a repair, those that have not looked again since disagree with nobody. A port that must
// stay closed is exposed as soon as one of them finds it open.
func Verdict(r Rule, before State, views []View, now time.Time) State {
	var good, bad, lasting, pending int
	var reached time.Time // since when one of them has had what is wanted
	for _, v := range views {
		if (r.Stale == 0 || now.Sub(v.At) <= r.Stale) && r.Meaning(v.Outcome) == AsWanted && (reached.IsZero() || v.Since.Before(reached)) {
			reached = v.Since
		}
	}
	for _, v := range views {
		if r.Stale > 0 && now.Sub(v.At) > r.Stale {
			continue
		}
		switch r.Meaning(v.Outcome) {
		case AsWanted:
			good++
		case NotWanted:
			if r.Settled(v) {
				bad++
				if v.At.Sub(later(v.Since, reached)) >= 3*r.Sustain && v.At.After(reached) {
					lasting++
				}
			} else {
				pending++
			}
		}
	}
	if before == "" {
		before = StateUnknown
	}
	n := good + bad + pending
	switch {
	case n == 0:
		return StateUnknown
	case r.Expected == ExpectClosed && bad > 0:
		return StateExposed
	case good == 0 && 2*bad > n:
		return StateUnreachable
	case good > 0 && 2*lasting >= n:
		return StateImpaired
	case 2*good > n:
		return whenGood(r.Expected)
	}
	return before
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// A port that should be closed and is closed cannot be reached, which is what its owner wants: see AsExpected.
func whenGood(expected Expected) State {
	if expected == ExpectClosed {
		return StateUnreachable
	}
	return StateReachable
}

// AsExpected reports whether the state is what the service's owner wants.
func AsExpected(expected Expected, s State) bool {
	if expected == ExpectClosed {
		return s == StateUnreachable
	}
	return s == StateReachable
}

// Representative picks the view that explains a state: the newest of those that are not wanted where the state is not, and
// the newest that is wanted otherwise; failing these, the newest.
func Representative(r Rule, s State, views []View) (best View) {
	want := NotWanted
	if AsExpected(r.Expected, s) {
		want = AsWanted
	}
	fits := false
	for _, v := range views {
		if f := r.Meaning(v.Outcome) == want; f && !fits || f == fits && v.At.After(best.At) {
			best, fits = v, f
		}
	}
	return best
}
