// Package lantest checks a view of a site's network against what package agent asks of one.
package lantest

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
)

// Site is what the network holds: a port that takes TCP connections, one that refuses them, an address that is not of a LAN, and, where
// the view can know neighbours, one of them.
type Site struct {
	Open, Refused netip.AddrPort
	Elsewhere     netip.Addr
	Neighbour     agent.Neighbour
}

// limit is the longest that trying one port may take.
const limit = 3 * time.Second

// Check checks a view of the network that s describes.
func Check(t *testing.T, lan agent.LAN, s Site) {
	t.Helper()
	for name, c := range map[string]struct {
		transport string
		at        netip.AddrPort
		want      string
	}{
		"an open port":               {"tcp", s.Open, "open"},
		"a port that refuses":        {"tcp", s.Refused, "refused"},
		"a port that refuses UDP":    {"udp", s.Refused, "refused"},
		"an address of no LAN":       {"tcp", netip.AddrPortFrom(s.Elsewhere, 443), "unknown"},
		"an unknown transport":       {"sctp", s.Open, "unknown"},
		"an address that is missing": {"tcp", netip.AddrPort{}, "unknown"},
	} {
		state, detail := try(t, lan, t.Context(), c.transport, c.at)
		require.Equal(t, c.want, state, "%s: %s", name, detail)
		require.Equal(t, c.want == "unknown", detail != "", "%s: what is unknown is explained, and nothing else", name)
	}

	ended, end := context.WithCancel(t.Context())
	end()
	began := time.Now()
	state, _ := try(t, lan, ended, "tcp", s.Open)
	require.Equal(t, "unknown", state, "who is told to stop has found out nothing")
	_, _ = lan.Neighbours(ended)
	require.Less(t, time.Since(began), time.Second, "it stops when it is told to")

	list, err := lan.Neighbours(t.Context())
	require.NoError(t, err)
	require.LessOrEqual(t, len(list), agent.NeighboursMost)
	for _, n := range list {
		require.True(t, n.Address.IsValid() && !n.Address.Is4In6(), "a neighbour has an address: %+v", n)
		_, err := net.ParseMAC(n.MAC)
		require.NoError(t, err, "and a MAC")
		require.GreaterOrEqual(t, n.Age, time.Duration(0))
	}
	if s.Neighbour.Address.IsValid() {
		require.True(t, slices.ContainsFunc(list, func(n agent.Neighbour) bool {
			return n.Address == s.Neighbour.Address && n.MAC == s.Neighbour.MAC
		}), "%v is among the neighbours: %v", s.Neighbour, list)
	}
	for _, words := range lan.Cannot() {
		require.NotEmpty(t, words)
	}

	done := make(chan string, 4)
	for range cap(done) {
		go func() {
			seen := lan.Try(context.Background(), contract.WatchedPort{Transport: "tcp"}, s.Open)
			_, _ = lan.Neighbours(context.Background())
			done <- seen.State
		}()
	}
	for range cap(done) {
		require.Equal(t, "open", <-done, "several ask at once")
	}
}

func try(t *testing.T, lan agent.LAN, ctx context.Context, transport string, at netip.AddrPort) (state, detail string) {
	t.Helper()
	began := time.Now()
	seen := lan.Try(ctx, contract.WatchedPort{Transport: transport}, at)
	require.Less(t, time.Since(began), limit)
	require.Contains(t, []string{"open", "refused", "silent", "prohibited", "hung", "other", "unknown"}, seen.State)
	return seen.State, seen.Detail
}
