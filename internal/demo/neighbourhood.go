package demo

import (
	"context"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/lab"
)

// neighbourhood is the LAN of a simulated site: its devices answer on loopback addresses, which have no neighbour table.
type neighbourhood struct {
	agent.SystemLAN
	world *lab.World
	place place
}

// Neighbours implements agent.LAN.
func (n neighbourhood) Neighbours(context.Context) ([]agent.Neighbour, error) {
	var out []agent.Neighbour
	for _, d := range n.place.devices {
		if at := n.world.Where(n.place.code, d.name); at.IsValid() {
			out = append(out, agent.Neighbour{Address: at, MAC: d.mac})
		}
	}
	return out, nil
}
