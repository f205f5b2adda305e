package demo

import (
	"context"
	"net/netip"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/lab"
)

// neighbourhood is the LAN of a simulated site: its devices answer on loopback addresses, which have no neighbour table. It is no
// agent.Searcher: the LAN of the machine that the demo runs on is nobody's to search.
type neighbourhood struct {
	ports agent.SystemLAN
	world *lab.World
	place place
}

// Try implements agent.LAN.
func (n neighbourhood) Try(ctx context.Context, p contract.WatchedPort, at netip.AddrPort) contract.PortSeen {
	return n.ports.Try(ctx, p, at)
}

// Cannot implements agent.LAN.
func (neighbourhood) Cannot() []string { return nil }

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
