package demo

import (
	"context"

	"inkpost.example/inkpost/internal/agent"
)

// neighbourhood is the LAN of a simulated site: its devices answer on loopback addresses, which have no neighbour table.
type neighbourhood struct {
	agent.SystemLAN
	index int
	place place
}

// Neighbours implements agent.LAN.
func (n neighbourhood) Neighbours(context.Context) ([]agent.Neighbour, error) {
	var out []agent.Neighbour
	for i, d := range n.place.devices {
		out = append(out, agent.Neighbour{Address: lan(n.index, i), MAC: d.mac})
	}
	return out, nil
}
