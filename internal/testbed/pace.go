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
	mu    sync.Mutex
	users int
	best  time.Duration
	took  []piece
	done  *sync.Cond
}

type piece struct{ began, ended time.Time }

var pace = func() *Pace { p := &Pace{}; p.done = sync.NewCond(&p.mu); return p }()

const (
	// pieceOf is about 5 ms of work: longer than what a process gets at once where others wait.
	pieceOf   = 2 << 20
	pieceRest = 100 * time.Millisecond
)

// Watch has the pace watched until the test has ended.
func Watch(t testing.TB) *Pace {
	t.Helper()
	pace.mu.Lock()
	defer pace.mu.Unlock()
	if pace.users++; pace.users == 1 {
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
	for {
		one := piece{began: time.Now()}
		sha256.Sum256(work)
		one.ended = time.Now()
		p.mu.Lock()
		if took := one.ended.Sub(one.began); p.best == 0 || took < p.best {
			p.best = took
		}
		p.took = append(p.took, one)
		p.done.Broadcast()
		if p.users == 0 {
			p.mu.Unlock()
			return
		}
		p.mu.Unlock()
		<-time.After(pieceRest)
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
		if one.ended.After(from.Add(-pieceRest)) && one.began.Before(to.Add(pieceRest)) {
			sum, n = sum+one.ended.Sub(one.began), n+1
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
