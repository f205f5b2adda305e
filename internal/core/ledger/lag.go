package ledger

import "time"

// LagBounds are the upper bounds of the classes in which probes are counted by how late they began.
var LagBounds = [...]time.Duration{time.Millisecond, 5 * time.Millisecond, 20 * time.Millisecond, 100 * time.Millisecond,
	500 * time.Millisecond, time.Second, 5 * time.Second, 30 * time.Second}

// LagCounts counts lags by class; the last one holds what is longer than any bound. Sum is all of them together.
type LagCounts struct {
	Classes [len(LagBounds) + 1]uint64
	Sum     time.Duration
}

// Add counts one lag.
func (l *LagCounts) Add(lag time.Duration) {
	l.Sum += lag
	for i, bound := range LagBounds {
		if lag <= bound {
			l.Classes[i]++
			return
		}
	}
	l.Classes[len(LagBounds)]++
}

// Quantile returns the bound below which a share q of all lags are; ok is false if there are none, or it is above the last bound.
func (l LagCounts) Quantile(q float64) (bound time.Duration, ok bool) {
	var total, seen uint64
	for _, n := range l.Classes {
		total += n
	}
	for i, n := range l.Classes[:len(LagBounds)] {
		if seen += n; total > 0 && float64(seen) >= q*float64(total) {
			return LagBounds[i], true
		}
	}
	return 0, false
}
