package probing

import (
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/probing/counts"
)

// Counts is what the prober has done since it started, and how many services are in each state now.
type Counts struct {
	Outcomes map[counts.Of]uint64
	Lags     ledger.LagCounts
	States   map[probe.State]int
	Limited  uint64 // packets with a hop limit
}

// Counts counts what the prober has done.
func (p *Prober) Counts() Counts {
	out := Counts{States: p.states(), Limited: p.meter.Sent()}
	out.Outcomes, out.Lags = p.counts.Read()
	return out
}

// states counts the services by state.
func (p *Prober) states() map[probe.State]int {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[probe.State]int{probe.StateReachable: 0, probe.StateImpaired: 0, probe.StateUnreachable: 0, probe.StateExposed: 0,
		probe.StateUnknown: 0}
	for _, w := range p.watches {
		out[w.State()]++
	}
	return out
}
