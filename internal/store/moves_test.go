package store_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

func TestMovesAreRecordedTogether(t *testing.T) {
	st := open(t)
	a, b := furnish(t, st, "KET"), furnish(t, st, "OYS")
	ctx := t.Context()
	pair := func(s string) wan.Pair { return wan.PairOf(netip.MustParseAddr(s)) }
	ids, err := st.MoveIDs(ctx, 3)
	require.NoError(t, err)
	require.Len(t, ids, 3)
	require.True(t, ids[0] < ids[1] && ids[1] < ids[2])
	change := func(i int, f furnished, from, to string) store.Change {
		c := store.Change{ID: ids[i], SiteID: f.site.ID, LinkID: f.link.ID, New: pair(to), Source: wan.SourceGateway,
			Noticed: morning, Received: morning.Add(time.Second)}
		if from != "" {
			c.Old = pair(from)
		}
		return c
	}
	g := store.Group{Changes: []store.Change{change(0, b, "", "198.51.100.3"), change(1, a, "", "198.51.100.4"),
		change(2, a, "198.51.100.4", "2001:db8::7")},
		Serials: map[int64]uint32{a.zone.ID: a.zone.Serial + 7}}
	require.NoError(t, st.Accept(ctx, store.Group{Changes: g.Changes[:2]}))
	require.NoError(t, st.Accept(ctx, store.Group{Changes: g.Changes[2:]}))
	require.NoError(t, st.Settle(ctx, store.Group{Changes: g.Changes[:2]}, nil))
	for range 2 { // as if the reply to the first had been lost, and then to the second
		require.NoError(t, st.Settle(ctx, g, []store.Stages{{MoveID: ids[1], Recorded: morning.Add(time.Second)}}))
	}
	z, err := st.Zone(ctx, "isles.example")
	require.NoError(t, err)
	require.Equal(t, a.zone.Serial+7, z.Serial)
	la, err := st.Link(ctx, a.site.ID, "main")
	require.NoError(t, err)
	require.Equal(t, pair("2001:db8::7"), la.Addresses())
	require.Equal(t, wan.SourceGateway, la.Source)
	require.Equal(t, morning.Add(time.Second), la.Since)
	moves, err := st.Moves(ctx, store.MoveFilter{SiteID: b.site.ID, LinkID: b.link.ID, Limit: 10})
	require.NoError(t, err)
	require.Len(t, moves, 1)
	require.Equal(t, ids[0], moves[0].ID)
	require.True(t, moves[0].Published.IsZero())
	moves, err = st.Moves(ctx, store.MoveFilter{SiteID: a.site.ID, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, []int64{ids[2], ids[1]}, []int64{moves[0].ID, moves[1].ID})
	require.Equal(t, pair("198.51.100.4"), moves[0].Old)
	require.Equal(t, morning.Add(time.Second), moves[1].Recorded, "stages that are known already are recorded with the move")

	open, err := st.Unfinished(ctx, time.Time{})
	require.NoError(t, err)
	require.Len(t, open, 2, "the newest of each link")
	note := func(s store.Stages) { require.NoError(t, st.Settle(ctx, store.Group{}, []store.Stages{s})) }
	note(store.Stages{MoveID: ids[0], Recorded: morning.Add(2 * time.Second), Published: morning.Add(3 * time.Second)})
	note(store.Stages{MoveID: ids[0], Confirmed: morning.Add(4 * time.Second)})
	moves, err = st.Moves(ctx, store.MoveFilter{SiteID: b.site.ID, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, morning.Add(3*time.Second), moves[0].Published, "a stage that is noted later leaves the others")
	require.Equal(t, morning.Add(4*time.Second), moves[0].Confirmed)
	open, err = st.Unfinished(ctx, time.Time{})
	require.NoError(t, err)
	require.Len(t, open, 2, "neither was seen by resolvers")
	require.Equal(t, []bool{true, true, false, false}, []bool{open[1].Published, open[1].Confirmed, open[1].Answered, open[1].Seen})
	open, err = st.Unfinished(ctx, morning.Add(time.Hour))
	require.NoError(t, err)
	require.Empty(t, open, "an older one was given up")
	page, err := st.Moves(ctx, store.MoveFilter{Before: ids[1], Limit: 10})
	require.NoError(t, err)
	require.Len(t, page, 1)

	require.NoError(t, st.Hear(ctx, map[int64]time.Time{a.link.ID: morning.Add(time.Hour), 999: morning}))
	require.NoError(t, st.Hear(ctx, map[int64]time.Time{a.link.ID: morning}), "an earlier time does not take its place")
	la, err = st.Link(ctx, a.site.ID, "main")
	require.NoError(t, err)
	require.Equal(t, morning.Add(time.Hour), la.Heard)
}

func TestWhatWasAcceptedIsSettledWhenTheStoreIsOpened(t *testing.T) {
	url, ctx := testbed.Database(t), t.Context()
	st, err := store.Open(ctx, url)
	require.NoError(t, err)
	f := furnish(t, st, "KET")
	ids, err := st.MoveIDs(ctx, 3)
	require.NoError(t, err)
	accept := func(i int, from, to string, serial uint32) {
		c := store.Change{ID: ids[i], SiteID: f.site.ID, LinkID: f.link.ID, Old: wan.PairOf(netip.MustParseAddr(from)),
			New:    wan.PairOf(netip.MustParseAddr(to)),
			Source: wan.SourceObserved, Noticed: morning, Received: morning.Add(time.Duration(i) * time.Second)}
		require.NoError(t, st.Accept(ctx, store.Group{Changes: []store.Change{c}, Serials: map[int64]uint32{f.zone.ID: serial}}))
	}
	accept(0, "198.51.100.1", "198.51.100.2", f.zone.Serial+1)
	accept(1, "198.51.100.2", "198.51.100.3", f.zone.Serial+2)
	st.Close()

	for range 2 { // the second time nothing is left to do
		st, err = store.Open(ctx, url)
		require.NoError(t, err)
		moves, err := st.Moves(ctx, store.MoveFilter{Limit: 10})
		require.NoError(t, err)
		require.Len(t, moves, 2)
		require.Equal(t, []int64{ids[1], ids[0]}, []int64{moves[0].ID, moves[1].ID})
		require.Equal(t, wan.PairOf(netip.MustParseAddr("198.51.100.2")), moves[0].Old)
		require.Equal(t, morning.Add(time.Second), moves[0].Received)
		l, err := st.Link(ctx, f.site.ID, "main")
		require.NoError(t, err)
		require.Equal(t, wan.PairOf(netip.MustParseAddr("198.51.100.3")), l.Addresses())
		z, err := st.Zone(ctx, "isles.example")
		require.NoError(t, err)
		require.Equal(t, f.zone.Serial+2, z.Serial)
		st.Close()
	}

	st, err = store.Open(ctx, url)
	require.NoError(t, err)
	next, err := st.MoveIDs(ctx, 2)
	require.NoError(t, err)
	require.Greater(t, next[0], ids[2], "no ID is given twice")

	// One whose writing was cut off, so that nobody was told that it was recorded, does not come back over a later one.
	ids = next
	accept(0, "198.51.100.3", "198.51.100.66", f.zone.Serial+3)
	later := store.Change{ID: next[1], SiteID: f.site.ID, LinkID: f.link.ID, Old: wan.PairOf(netip.MustParseAddr("198.51.100.3")),
		New:    wan.PairOf(netip.MustParseAddr("198.51.100.5")),
		Source: wan.SourceObserved, Noticed: morning, Received: morning}
	require.NoError(t, st.Accept(ctx, store.Group{Changes: []store.Change{later}}))
	require.NoError(t, st.Settle(ctx, store.Group{Changes: []store.Change{later}}, nil))
	st.Close()
	st, err = store.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	l, err := st.Link(ctx, f.site.ID, "main")
	require.NoError(t, err)
	require.Equal(t, later.New, l.Addresses())
	moves, err := st.Moves(ctx, store.MoveFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, moves, 3)
}

// What is accepted counts for whoever reads the record, before it is in the tables.
func TestTheRecordIsReadWithWhatIsAcceptedAndNotYetInItsTables(t *testing.T) {
	f, ctx := furnish(t, open(t), "KET"), t.Context()
	move := func(id int64, address string, serial uint32) {
		require.NoError(t, f.Accept(ctx, store.Group{Serials: map[int64]uint32{f.zone.ID: serial}, Changes: []store.Change{{ID: id,
			SiteID: f.site.ID, LinkID: f.link.ID, New: wan.PairOf(netip.MustParseAddr(address)), Source: wan.SourceObserved,
			Noticed:  morning,
			Received: morning}}}))
	}
	ids, err := f.MoveIDs(ctx, 2)
	require.NoError(t, err)
	move(ids[0], "198.51.100.7", f.zone.Serial+1)
	move(ids[1], "198.51.100.8", f.zone.Serial+2)
	tables, err := f.Links(ctx, f.site.ID)
	require.NoError(t, err)
	require.Equal(t, f.link.IPv4, tables[0].IPv4, "the tables follow later")
	require.NoError(t, f.Current(ctx, func(now store.Current) error {
		links, err := now.Links(ctx, 0)
		require.NoError(t, err)
		require.Equal(t, "198.51.100.8", links[0].IPv4.String())
		require.Equal(t, wan.SourceObserved, links[0].Source)
		zones, err := now.Zones(ctx)
		require.NoError(t, err)
		require.Equal(t, f.zone.Serial+2, zones[0].Serial)
		// It is the record of one moment: what is added meanwhile is of the next.
		move(ids[1]+1000, "198.51.100.9", f.zone.Serial+3)
		links, err = now.Links(ctx, 0)
		require.NoError(t, err)
		require.Equal(t, "198.51.100.8", links[0].IPv4.String())
		return nil
	}))
	require.ErrorIs(t, f.Current(ctx, func(store.Current) error { return store.ErrNotWriter }), store.ErrNotWriter)
}

// Another server reads what is new, and never a serial from before what it read already.
func TestWhatIsNewIsFollowedOnce(t *testing.T) {
	f, ctx := furnish(t, open(t), "KET"), t.Context()
	ids, err := f.MoveIDs(ctx, 3)
	require.NoError(t, err)
	accept := func(i int) store.Group {
		g := store.Group{Serials: map[int64]uint32{f.zone.ID: f.zone.Serial + 1 + uint32(i)}, Changes: []store.Change{{ID: ids[i],
			SiteID: f.site.ID, LinkID: f.link.ID, Source: wan.SourceObserved, Noticed: morning, Received: morning,
			New: wan.PairOf(netip.AddrFrom4([4]byte{198, 51, 100, 7 + byte(i)}))}}}
		require.NoError(t, f.Accept(ctx, g))
		return g
	}
	follow := func(after int64, every bool, serials map[int64]uint32, moves ...int64) {
		t.Helper()
		g, err := f.Follow(ctx, after, every)
		require.NoError(t, err)
		var got []int64
		for _, c := range g.Changes {
			got = append(got, c.ID)
		}
		require.Equal(t, moves, got)
		require.Equal(t, serials, g.Serials)
	}
	serial := func(n uint32) map[int64]uint32 { return map[int64]uint32{f.zone.ID: f.zone.Serial + n} }
	first, second := accept(0), accept(1)
	follow(0, false, serial(2), ids[0], ids[1])
	follow(ids[0], false, serial(2), ids[1])
	follow(ids[1], false, map[int64]uint32{})
	follow(ids[1], true, serial(2))

	require.NoError(t, f.Settle(ctx, first, nil))
	follow(ids[1], false, map[int64]uint32{})
	follow(0, false, serial(2), ids[0], ids[1])
	require.NoError(t, f.Settle(ctx, second, nil))
	accept(2)
	follow(ids[0], false, serial(3), ids[1], ids[2])
	follow(ids[1], false, serial(3), ids[2])
}
