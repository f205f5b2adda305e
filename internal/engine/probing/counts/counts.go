// Package counts counts what a prober does, for whoever watches the server. A Counter is safe for concurrent use; it holds no other lock.
package counts

import (
	"maps"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/locks"
)

// Of is a kind of service and an outcome.
type Of struct {
	Kind    probe.Kind
	Outcome probe.Outcome
}

// Counter counts outcomes, and how late rounds began. The zero Counter has counted nothing.
type Counter struct {
	mu       locks.Leaf
	outcomes map[Of]uint64
	lags     ledger.LagCounts
}

// Outcome counts an outcome.
func (c *Counter) Outcome(k probe.Kind, o probe.Outcome) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.outcomes == nil {
		c.outcomes = map[Of]uint64{}
	}
	c.outcomes[Of{k, o}]++
}

// Late notes how long after it was due a round began.
func (c *Counter) Late(by time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lags.Add(by)
}

// Read returns what was counted so far.
func (c *Counter) Read() (map[Of]uint64, ledger.LagCounts) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return maps.Clone(c.outcomes), c.lags
}
