package testbed

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// complaints is a test that may fail.
type complaints []string

func (c *complaints) Errorf(format string, args ...any) {
	*c = append(*c, fmt.Sprintf(format, args...))
}

// Of a machine that stands still, nothing is known until it goes on: then the piece of work that was due meanwhile counts.
func TestAMachineThatStoodStillIsASlowOne(t *testing.T) {
	began := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	p := &Pace{best: 5 * time.Millisecond}
	p.done = sync.NewCond(&p.mu)
	p.took = []piece{{began, began.Add(5 * time.Millisecond)}, {began.Add(105 * time.Millisecond), began.Add(3 * time.Second)}}
	require.InDelta(t, 579, p.Slow(began.Add(time.Second), began.Add(2500*time.Millisecond)), 1)
}

// What may take a second takes three where the processors are somebody else's for two thirds of the time, and not four.
func TestASlowMachineIsAllowedAsMuchMore(t *testing.T) {
	began := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	p := &Pace{best: 5 * time.Millisecond}
	p.done = sync.NewCond(&p.mu)
	for at := began.Add(-time.Minute); at.Before(began.Add(time.Minute)); at = at.Add(100 * time.Millisecond) {
		took := 5 * time.Millisecond
		if at.After(began) {
			took *= 3
		}
		p.took = append(p.took, piece{at, at.Add(took)})
	}
	quiet, from := began.Add(-30*time.Second), began.Add(30*time.Second)
	var said complaints
	p.Within(&said, quiet, quiet.Add(time.Second), time.Second, "quick")
	p.Within(&said, from, from.Add(2900*time.Millisecond), time.Second, "slow")
	require.Empty(t, said)
	p.Within(&said, quiet, quiet.Add(1100*time.Millisecond), time.Second, "late on a quiet machine")
	p.Within(&said, from, from.Add(4*time.Second), time.Second, "late on a slow one")
	require.Len(t, said, 2)
	require.Contains(t, said[1], "3.0 times slower")
}
