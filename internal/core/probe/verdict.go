package probe

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

// View is what one vantage point last saw: the outcome, and how many times in a row with the same meaning.
type View struct {
	Outcome Outcome
	InRow   int
}

// Settled says whether this view may count for a failure.
func (v View) Settled() bool { return v.InRow >= Confirmations }

// Verdict judges a service by the views of all vantage points, given its state so far. A skipped view does not count.
// A good result counts at once; a bad one only when it is confirmed, and until then the state stays what it was.
func Verdict(expected Expected, before State, views []View) State {
	var good, bad, pending int
	for _, v := range views {
		if v.Outcome == Skipped || v.Outcome == "" {
			continue
		}
		ok := v.Outcome.Good()
		if expected == ExpectClosed {
			ok = !v.Outcome.Open()
		}
		switch {
		case ok:
			good++
		case v.Settled():
			bad++
		default:
			pending++
		}
	}
	if before == "" {
		before = StateUnknown
	}
	switch {
	case good+bad+pending == 0:
		return StateUnknown
	case bad == 0 && pending > 0:
		return before
	case bad == 0:
		return whenGood(expected)
	case expected == ExpectClosed:
		return StateExposed
	case good > 0:
		return StateImpaired
	case pending > 0:
		return before
	}
	return StateUnreachable
}

// A port that should be closed and is closed cannot be reached, which is what its owner wants: see AsExpected.
func whenGood(expected Expected) State {
	if expected == ExpectClosed {
		return StateUnreachable
	}
	return StateReachable
}

// AsExpected says whether the state is what the service's owner wants.
func AsExpected(expected Expected, s State) bool {
	if expected == ExpectClosed {
		return s == StateUnreachable
	}
	return s == StateReachable
}

// SameMeaning says whether two outcomes say the same for confirmation: both good, or both bad of any kind.
func SameMeaning(expected Expected, a, b Outcome) bool {
	if expected == ExpectClosed {
		return a.Open() == b.Open()
	}
	return a.Good() == b.Good()
}
