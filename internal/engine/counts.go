package engine

import (
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
)

// probeCounts counts what the prober does, for whoever watches the server.
type probeCounts struct {
	mu       sync.Mutex
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

// ProbeCounts is what the prober has done since it started, and how services stand now.
type ProbeCounts struct {
	Outcomes map[OutcomeOf]uint64
	Lags     ledger.LagCounts
	States   map[probe.State]int
	Vantages map[string]int // by state
}

// ProbeCounts tells what the prober has done.
func (e *Engine) ProbeCounts() ProbeCounts {
	out := ProbeCounts{Outcomes: map[OutcomeOf]uint64{}, States: e.prober.states(), Vantages: map[string]int{}}
	for _, v := range e.Vantages() {
		out.Vantages[v.State]++
	}
	c := &e.prober.counts
	c.mu.Lock()
	defer c.mu.Unlock()
	for k, n := range c.outcomes {
		out.Outcomes[k] = n
	}
	out.Lags = c.lags
	return out
}

// states counts the services by state.
func (p *prober) states() map[probe.State]int {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[probe.State]int{probe.StateReachable: 0, probe.StateImpaired: 0, probe.StateUnreachable: 0, probe.StateExposed: 0, probe.StateUnknown: 0}
	for _, w := range p.watches {
		out[w.state]++
	}
	return out
}
