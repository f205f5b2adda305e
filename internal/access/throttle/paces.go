package throttle

import (
	"sync"

	"golang.org/x/time/rate"
)

// Pace is how often one key may do one kind of thing, as multiples of the announcements that a key may make a second: so many a
// second, and so many at once.
type Pace struct {
	What             string
	PerSecond, Burst float64
}

// Paces bounds what each key asks. Rate is how many announcements a second a key may make. Its methods may be called from many
// goroutines.
type Paces[K comparable] struct {
	Rate float64
	mu   sync.Mutex
	keys map[string]map[K]*rate.Limiter
}

// maxPace is how many keys are remembered for one kind of thing before those that rest are forgotten.
const maxPace = 10_000

// Allow reports whether a key may do one more thing of a kind now.
func (p *Paces[K]) Allow(of Pace, key K) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.keys == nil {
		p.keys = map[string]map[K]*rate.Limiter{}
	}
	if p.keys[of.What] == nil {
		p.keys[of.What] = map[K]*rate.Limiter{}
	}
	all := p.keys[of.What]
	l := all[key]
	if l == nil {
		if len(all) >= maxPace {
			forgetRested(all)
		}
		l = rate.NewLimiter(rate.Limit(of.PerSecond*p.Rate), max(1, int(of.Burst*p.Rate)))
		all[key] = l
	}
	return l.Allow()
}

// forgetRested drops the limiters that are full again, and a tenth of the others if that makes no room.
func forgetRested[K comparable](all map[K]*rate.Limiter) {
	for key, l := range all {
		if l.Tokens() >= float64(l.Burst()) {
			delete(all, key)
		}
	}
	for key := range all {
		if len(all) <= maxPace*9/10 {
			return
		}
		delete(all, key)
	}
}
