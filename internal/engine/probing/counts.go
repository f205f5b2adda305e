package probing

import (
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/locks"
)

// probeCounts counts what the prober does, for whoever watches the server.
type probeCounts struct {
	mu       locks.Leaf
	outcomes map[OutcomeOf]uint64
	lags     ledger.LagCounts
}

// OutcomeOf is a kind of service and an outcome.
type OutcomeOf struct {
	Kind    probe.Kind
	Outcome probe.Outcome
}

func (c *probeCounts) outcome(k probe.Kind, o probe.Outcome) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.outcomes == nil {
		c.outcomes = map[OutcomeOf]uint64{}
	}
	c.outcomes[OutcomeOf{k, o}]++
}

// late notes how long after it was due a round began.
func (c *probeCounts) late(by time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lags.Add(by)
}

// Counts is what the prober has done since it started, and how many services are in each state now.
type Counts struct {
	Outcomes map[OutcomeOf]uint64
	Lags     ledger.LagCounts
	States   map[probe.State]int
	Limited  uint64 // packets with a hop limit
}

// Counts counts what the prober has done.
func (p *Prober) Counts() Counts {
	out := Counts{Outcomes: map[OutcomeOf]uint64{}, States: p.states(), Limited: p.meter.Sent()}
	c := &p.counts
	c.mu.Lock()
	defer c.mu.Unlock()
	for k, n := range c.outcomes {
		out.Outcomes[k] = n
	}
	out.Lags = c.lags
	return out
}

// states counts the services by state.
func (p *Prober) states() map[probe.State]int {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[probe.State]int{probe.StateReachable: 0, probe.StateImpaired: 0, probe.StateUnreachable: 0, probe.StateExposed: 0,
		probe.StateUnknown: 0}
	for _, w := range p.watches {
		out[w.State]++
	}
	return out
}
