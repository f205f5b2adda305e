package proofs

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
)

func TestATrialIsWantedOnlyWhereTheLinkAllowsItAndOnceAtATime(t *testing.T) {
	x := New(nil, nil, nil, nil, time.Now, nil)
	l := site.Link{ID: 7, MayMap: true, Agent: true, IPv4: netip.MustParseAddr("198.51.100.7")}
	s := site.Service{ID: 3, SiteID: 1, Reach: site.ByForward, ExternalFrom: 8443, ExternalTo: 8443}
	for name, edit := range map[string]func(*site.Link, *site.Service){
		"it may not":           func(l *site.Link, _ *site.Service) { l.MayMap = false },
		"nobody is there":      func(l *site.Link, _ *site.Service) { l.Agent = false },
		"no IPv4 address":      func(l *site.Link, _ *site.Service) { l.IPv4 = netip.Addr{} },
		"the router serves it": func(_ *site.Link, s *site.Service) { s.OnRouter = true },
		"it is not forwarded":  func(_ *site.Link, s *site.Service) { s.Reach = site.ByPinhole },
	} {
		l, s := l, s
		edit(&l, &s)
		x.Want(s, l)
		require.Empty(t, x.wanted, name)
	}
	x.Want(s, l)
	x.Want(s, l)
	require.Len(t, x.wanted, 1)
	require.Equal(t, wanted{1, 7, 3}, <-x.wanted)
	_, under := x.Trial(3)
	require.True(t, under)
	for i := range int64(2 * waiting) {
		s.ID = 100 + i
		x.Want(s, l)
	}
	require.Len(t, x.wanted, waiting, "what is too much is dropped")
	_, under = x.Trial(100 + 2*waiting - 1)
	require.False(t, under)
}

func TestARouterIsNotAskedForPortsWithoutEnd(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	x := New(nil, nil, nil, nil, func() time.Time { return now }, nil)
	for range trialsMost {
		require.True(t, x.allowed(7))
	}
	require.False(t, x.allowed(7))
	require.True(t, x.allowed(8), "each link for itself")
	now = now.Add(trialsWithin + time.Second)
	require.True(t, x.allowed(7))

	x.trials[3] = site.Trial{Came: site.CameNot}
	x.Forget(record.Gone{Services: map[int64]bool{3: true}, Links: map[int64]bool{7: true}})
	require.Empty(t, x.trials)
	require.NotContains(t, x.lately, int64(7))
}
