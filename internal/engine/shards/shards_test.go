package shards_test

import (
	"context"
	"encoding/json"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/shards"
)

// sites lends a round of each of a thousand sites, and returns who has them; nobody is this server.
func sites(t *testing.T, s *shards.Shards, places map[string]*shards.Place) map[int64]string {
	t.Helper()
	out, by := map[int64]string{}, map[int64]string{}
	for id := range int64(1000) {
		s.Lend(id, shards.Order{ServiceID: id})
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	for name, p := range places {
		list, ok := p.Orders(over)
		require.True(t, ok, name)
		for _, o := range list {
			by[o.ServiceID] = name
			require.True(t, s.Take(name, []shards.Round{{ID: o.ID}}))
		}
	}
	for id := range int64(1000) {
		out[id] = by[id]
	}
	return out
}

func TestWhoComesAndGoesChangesHisShardsOnly(t *testing.T) {
	s := shards.New(time.Now)
	require.NotContains(t, sites(t, s, nil), "post-2")
	places := map[string]*shards.Place{"post-2": s.Join("post-2", 5000)}
	two := sites(t, s, places)
	places["post-3"] = s.Join("post-3", 5000)
	three := sites(t, s, places)
	count := map[string]int{}
	for id, by := range three {
		count[by]++
		require.True(t, by == two[id] || by == "post-3", "site %d went from %q to %q", id, two[id], by)
	}
	for _, name := range []string{"", "post-2", "post-3"} {
		require.InDelta(t, 333, count[name], 100, "%q", name)
	}
	sum := 0
	for _, m := range s.List() {
		sum += m.Shards
	}
	require.InDelta(t, shards.Count*2/3, sum, 30)
	places["post-3"].Leave()
	delete(places, "post-3")
	require.Equal(t, two, sites(t, s, places), "what it had goes back to where it was")
}

func TestARoundComesBackOrIsMadeHere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, end := context.WithCancel(t.Context())
		defer synctest.Wait()
		defer end()
		s := shards.New(time.Now)
		go s.Run(ctx)
		place := s.Join("post-2", 2)
		site := int64(0)
		for {
			if _, ok := s.Lend(site, shards.Order{ServiceID: 7, Revision: 3, Address: netip.MustParseAddr("192.0.2.7")}); ok {
				break
			}
			site++
		}
		second, ok := s.Lend(site, shards.Order{})
		require.True(t, ok)
		_, ok = s.Lend(site, shards.Order{})
		require.False(t, ok, "it has two under way")

		list, ok := place.Orders(ctx)
		require.True(t, ok)
		require.Len(t, list, 2)
		require.Equal(t, int64(3), list[0].Revision)
		require.True(t, s.Take("post-2", []shards.Round{{ID: list[1].ID, Doc: json.RawMessage(`{}`)}, {ID: 999}}))
		r, ok := second.Await(ctx)
		require.True(t, ok)
		require.Equal(t, list[1].ID, r.ID)
		require.Equal(t, int64(1), s.List()[0].Made)

		behind, ok := s.Lend(site, shards.Order{})
		require.True(t, ok, "there is room again")
		list, _ = place.Orders(ctx)
		s.Take("post-2", []shards.Round{{ID: list[0].ID, Behind: true}})
		_, ok = behind.Await(ctx)
		require.False(t, ok, "the record there is another")

		// Whoever waits gives its place up with its context.
		soon, cancel := context.WithTimeout(ctx, time.Second)
		one, ok := s.Lend(site, shards.Order{})
		require.True(t, ok)
		_, ok = one.Await(soon)
		require.False(t, ok)
		cancel()

		// It is not heard any more: what it was asked for is made here, and so is all that follows.
		last, ok := s.Lend(site, shards.Order{})
		require.True(t, ok, "nobody waits for the one before")
		began := time.Now()
		_, ok = last.Await(ctx)
		require.False(t, ok)
		require.LessOrEqual(t, time.Since(began), 8*time.Second)
		require.Empty(t, s.List())
		require.False(t, s.Take("post-2", nil), "it has to join again")
		_, ok = s.Lend(site, shards.Order{})
		require.False(t, ok)
		_, ok = place.Orders(ctx)
		require.False(t, ok)

		// One that comes again takes the place of the one that was there.
		before, after := s.Join("post-2", 1), s.Join("post-2", 1)
		_, ok = before.Orders(ctx)
		require.False(t, ok)
		before.Leave()
		require.Len(t, s.List(), 1, "who has left does not take the other's place away")
		_, ok = s.Lend(site, shards.Order{})
		require.True(t, ok)
		list, ok = after.Orders(ctx)
		require.True(t, ok)
		require.Len(t, list, 1)
	})
}
