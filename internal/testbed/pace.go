package testbed

import (
	"crypto/sha256"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Pace knows how slow this machine was lately, as others may have its processors: how many times as long a piece of work took as it took
// at best. What has to be quick is allowed that much more.
type Pace struct {
	mu      sync.Mutex
	users   int
	running bool
	best    time.Duration
	took    []piece
	done    *sync.Cond
}

// piece is a piece of work: from when it was due, so that a machine that stands still counts too.
type piece struct{ due, ended time.Time }

var pace = func() *Pace { p := &Pace{}; p.done = sync.NewCond(&p.mu); return p }()

const (
	// pieceOf is how many octets are hashed at a time: a few milliseconds, so that others who wait get their turn meanwhile.
	pieceOf   = 2 << 20
	pieceRest = 100 * time.Millisecond
)

// Watch has the pace watched until the test has ended.
func Watch(t testing.TB) *Pace {
	t.Helper()
	pace.mu.Lock()
	defer pace.mu.Unlock()
	pace.users++
	if !pace.running {
		pace.running = true
		go pace.run()
	}
	t.Cleanup(func() {
		pace.mu.Lock()
		defer pace.mu.Unlock()
		pace.users--
	})
	return pace
}

func (p *Pace) run() {
	work := make([]byte, pieceOf)
	for due := time.Now(); ; due = time.Now().Add(pieceRest) {
		<-time.After(time.Until(due))
		one := piece{due: due}
		sha256.Sum256(work)
		one.ended = time.Now()
		p.mu.Lock()
		if took := one.ended.Sub(one.due); p.best == 0 || took < p.best {
			p.best = took
		}
		p.took = append(p.took, one)
		p.done.Broadcast()
		p.running = p.users > 0
		goes := p.running
		p.mu.Unlock()
		if !goes {
			return
		}
	}
}

// Slow is how many times slower than at best this machine was between two moments: 1 or more. It waits for a piece of work that ends after
// them.
func (p *Pace) Slow(from, to time.Time) float64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.took) == 0 || !p.took[len(p.took)-1].ended.After(to) {
		p.done.Wait()
	}
	var sum time.Duration
	n := 0
	for _, one := range p.took {
		if one.ended.After(from.Add(-pieceRest)) && !one.due.After(to.Add(pieceRest)) {
			sum, n = sum+one.ended.Sub(one.due), n+1
		}
	}
	return max(1, float64(sum)/float64(n)/float64(p.best))
}

// Within fails the test where something that went from one moment to another took longer than it may on a machine that is its own.
func (p *Pace) Within(t assert.TestingT, from, to time.Time, most time.Duration, what string) {
	if to.Sub(from) <= most {
		return
	}
	slow := p.Slow(from, to)
	assert.LessOrEqual(t, to.Sub(from), time.Duration(slow*float64(most)), "%s: %v on a machine that is its own; this one was %.1f times "+
		"slower", what, most, slow)
}
