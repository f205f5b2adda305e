package agent

import (
	"context"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

// askingLAN is a LAN on which it can be asked who has an address.
type askingLAN struct {
	SystemLAN
	table   []Neighbour
	holders map[netip.Addr]string
	states  map[netip.AddrPort]string
}

func (l askingLAN) Neighbours(context.Context) ([]Neighbour, error) { return l.table, nil }
func (l askingLAN) Ask(context.Context, []netip.Addr)               {}
func (l askingLAN) AskAll(context.Context)                          {}
func (l askingLAN) Try(_ context.Context, _ contract.WatchedPort, at netip.AddrPort) contract.PortSeen {
	if s := l.states[at]; s != "" {
		return contract.PortSeen{State: s}
	}
	return contract.PortSeen{State: "silent"}
}
func (l askingLAN) Resolve(_ context.Context, list []netip.Addr) (map[netip.Addr]string, bool) {
	out := map[netip.Addr]string{}
	for _, a := range list {
		if mac := l.holders[a]; mac != "" {
			out[a] = mac
		}
	}
	return out, true
}

func TestWhoeverHasAnAddressIsAskedInsteadOfRemembered(t *testing.T) {
	const mac, other = "02:00:5e:07:00:01", "02:00:5e:07:00:09"
	home, away := netip.MustParseAddr("192.168.7.30"), netip.MustParseAddr("192.168.7.99")
	list := []contract.WatchedDevice{{Device: "recorder", MAC: mac, Address: home.String(),
		Ports: []contract.WatchedPort{{Service: "page", Transport: "tcp", Port: 8443}}}}
	for name, c := range map[string]struct {
		lan     askingLAN
		present bool
		found   string
		mac     string
		port    string
	}{
		"it is gone, and remembered": {askingLAN{table: []Neighbour{{Address: home, MAC: mac}}}, false, "", "", "silent"},
		"it is there, and silent": {askingLAN{table: []Neighbour{{Address: home, MAC: mac, Before: true}},
			holders: map[netip.Addr]string{home: mac}}, true, "", mac, "silent"},
		"another has its address": {askingLAN{table: []Neighbour{{Address: home, MAC: mac}}, holders: map[netip.Addr]string{home: other}},
			false, "", other, "silent"},
		"it was elsewhere, and is back": {askingLAN{table: []Neighbour{{Address: away, MAC: mac}},
			holders: map[netip.Addr]string{home: mac}},
			true, "", mac, "silent"},
		"it is elsewhere": {askingLAN{table: []Neighbour{{Address: away, MAC: mac}}, holders: map[netip.Addr]string{away: mac}},
			true, away.String(), "", "silent"},
		"what is sent there goes to another": {askingLAN{table: []Neighbour{{Address: home, MAC: other}},
			holders: map[netip.Addr]string{home: mac}}, true, "", mac, "unknown"},
	} {
		seen := survey(t.Context(), c.lan, c.lan.table, list, nil)
		require.Equal(t, c.present, seen[0].Present, "%s: %+v", name, seen)
		require.Equal(t, c.found, seen[0].Found, "%s: %+v", name, seen)
		require.Equal(t, c.mac, seen[0].MAC, "%s: %+v", name, seen)
		require.Equal(t, c.port, seen[0].Ports[0].State, "%s: %+v", name, seen)
	}
}
