package agent

import (
	"context"
	"fmt"
	"net/netip"

	"github.com/vishvananda/netlink"
)

// Neighbours implements LAN: the kernel's table of both families, without entries that failed.
func (SystemLAN) Neighbours(context.Context) ([]Neighbour, error) {
	list, err := netlink.NeighList(0, 0)
	if err != nil {
		return nil, fmt.Errorf("the neighbour table cannot be read: %w", err)
	}
	var out []Neighbour
	for _, n := range list {
		a, ok := netip.AddrFromSlice(n.IP)
		if !ok || len(n.HardwareAddr) != 6 || n.State&(netlink.NUD_FAILED|netlink.NUD_INCOMPLETE|netlink.NUD_NOARP) != 0 {
			continue
		}
		if len(out) == NeighboursMost {
			return out, ErrManyNeighbours
		}
		out = append(out, Neighbour{a.Unmap(), n.HardwareAddr.String()})
	}
	return out, nil
}

// Cannot implements LAN.
func (SystemLAN) Cannot() []string { return nil }
