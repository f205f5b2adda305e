package trials_test

import (
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

// removed is the newest removal of a kind.
func removed(t *testing.T, s *testbed.Service, kind string) contract.Removed {
	t.Helper()
	list, err := s.Client.Removed(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(list, func(r contract.Removed) bool { return r.Kind == kind })
	require.GreaterOrEqual(t, i, 0)
	return list[i]
}

func TestASiteThatWasRemovedComesBackAndGoesOn(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := furnished(t, func(o *options) { o.Database = database })
	ctx := t.Context()
	const ket = "ket-07." + zone
	agent := s.Enrol(t, "KET-07")
	_, err := agent.Announce(ctx, testbed.Says("203.0.113.7"))
	require.NoError(t, err)
	require.Equal(t, "203.0.113.7", testbed.Resolve(s.DNS, ket))
	before, err := s.Client.Site(ctx, "KET-07")
	require.NoError(t, err)

	require.NoError(t, s.Client.RemoveSite(ctx, "KET-07"))
	require.Empty(t, testbed.Resolve(s.DNS, ket))
	_, err = agent.Announce(ctx, testbed.Says("203.0.113.8"))
	require.Error(t, err, "its key opens nothing meanwhile")
	r := removed(t, s, "site")
	require.Equal(t, "KET-07", r.Name)
	require.Equal(t, "owner", r.Person)
	require.WithinDuration(t, time.Now().Add(30*24*time.Hour), r.Until, time.Minute)

	var carried atomic.Int64
	var wg sync.WaitGroup
	for range 3 {
		wg.Go(func() {
			if _, err := s.Client.Restore(ctx, r.ID); err == nil {
				carried.Add(1)
			} else if status(err) != 404 {
				t.Errorf("a second one got %v", err)
			}
		})
	}
	wg.Wait()
	require.EqualValues(t, 1, carried.Load())
	require.Equal(t, "203.0.113.7", testbed.Resolve(s.DNS, ket), "answered at once, as before")
	after, err := s.Client.Site(ctx, "KET-07")
	require.NoError(t, err)
	require.Equal(t, before.ID, after.ID)
	require.Equal(t, len(before.Services), len(after.Services))
	moves, err := s.Client.Moves(ctx, contract.MoveQuery{Site: "KET-07"})
	require.NoError(t, err)
	require.Len(t, moves, 1)
	_, err = agent.Announce(ctx, testbed.Says("203.0.113.8"))
	require.NoError(t, err, "its agent goes on with the key that it has")
	require.Equal(t, "203.0.113.8", testbed.Resolve(s.DNS, ket))
	require.EventuallyWithT(t, func(c *collect) {
		svc, err := s.Client.Service(ctx, "KET-07", "page")
		require.NoError(c, err)
		require.False(c, svc.Probed.IsZero())
	}, 10*time.Second, 20*time.Millisecond, "and its services are probed")
}

func TestWhatComesBackObeysTheRulesOfWhatIsAdded(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	ctx := t.Context()
	const ket = "ket-07." + zone
	require.NoError(t, s.Client.RemoveAlias(ctx, "museum."+zone))
	require.NoError(t, s.Client.RemoveHostname(ctx, ket))
	other := s.Name(t, "KET-07")
	require.Equal(t, ket, other, "the name is free")
	_, err := s.Client.Restore(ctx, removed(t, s, "hostname").ID)
	require.Equal(t, 409, status(err), "%v", err)
	require.ErrorContains(t, err, ket)
	first := removed(t, s, "hostname")
	require.NoError(t, s.Client.RemoveHostname(ctx, ket))
	pier := "pier." + zone
	_, err = s.Client.AddHostname(ctx, contract.HostnameInput{Name: pier, Site: "KET-07"})
	require.NoError(t, err)
	_, err = s.Client.AddAlias(ctx, contract.AliasInput{Name: ket, Hostname: pier})
	require.NoError(t, err)
	_, err = s.Client.Restore(ctx, first.ID)
	require.Equal(t, 422, status(err), "a CNAME stands alone: %v", err)
	require.NoError(t, s.Client.RemoveAlias(ctx, ket))
	_, err = s.Client.Restore(ctx, first.ID)
	require.NoError(t, err)

	require.NoError(t, s.Client.RemoveService(ctx, "KET-07", "page"))
	page := removed(t, s, "service")
	_, limited := s.Join(t, "ffion", team.Technician, "elsewhere")
	list, err := limited.Removed(ctx)
	require.NoError(t, err)
	require.Empty(t, list)
	_, err = limited.Restore(ctx, page.ID)
	require.Equal(t, 404, status(err))
	_, viewer := s.Join(t, "carys", team.Viewer)
	_, err = viewer.Restore(ctx, page.ID)
	require.Equal(t, 403, status(err))
	_, err = s.Client.Restore(ctx, page.ID)
	require.NoError(t, err)
	_, err = s.Client.Service(ctx, "KET-07", "page")
	require.NoError(t, err)
}
