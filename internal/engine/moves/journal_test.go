package moves

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
)

func TestWhatCouldNotBeSettledStaysTheOldest(t *testing.T) {
	m := New(nil, events.NewHub(fixedClock), fixedClock, time.UTC, nil, slog.New(slog.DiscardHandler))
	u := &m.journal
	change := func(id int64) store.Group {
		return store.Group{Changes: []store.Change{{ID: id}}, Serials: map[int64]uint32{7: uint32(id)}}
	}
	m.Accept(change(1))
	m.Reached(store.Stages{MoveID: 1, Recorded: fixedClock()})
	g, stages := u.take()
	m.Accept(change(2))
	m.Reached(store.Stages{MoveID: 2, Recorded: fixedClock()})
	u.putBack(g, stages)
	g, stages = u.take()
	require.Equal(t, store.Group{Changes: []store.Change{{ID: 1}, {ID: 2}}, Serials: map[int64]uint32{7: 2}}, g, "the newer serial counts")
	require.Equal(t, []store.Stages{{MoveID: 1, Recorded: fixedClock()}, {MoveID: 2, Recorded: fixedClock()}}, stages)
	require.Len(t, u.added, 1, "whoever settles is told")
	g, stages = u.take()
	require.Empty(t, g.Changes)
	require.Empty(t, stages)
}

func idsOf(list []Open) (out []int64) {
	for _, o := range list {
		out = append(out, o.ID)
	}
	return out
}

func TestAMoveIsFollowedToItsEnd(t *testing.T) {
	tr := openMoves{byLink: map[int64]*Open{}}
	tr.begin(&Open{ID: 1, SiteID: 10, LinkID: 100, Waiting: map[int64]bool{7: true, 8: true}})
	_, done := tr.confirmed(100, 9)
	require.False(t, done, "a service that the move does not wait for")
	_, done = tr.confirmed(100, 7)
	require.False(t, done)
	_, done = tr.confirmed(100, 7)
	require.False(t, done, "once is enough")
	require.Equal(t, []int64{1}, idsOf(tr.answered(10)))
	require.Empty(t, tr.answered(10), "answered is told once")
	of, done := tr.confirmed(100, 8)
	require.True(t, done)
	require.EqualValues(t, 1, of.ID)
	require.Empty(t, tr.byLink)

	tr.begin(&Open{ID: 2, SiteID: 10, LinkID: 100, Waiting: map[int64]bool{7: true}})
	tr.begin(&Open{ID: 3, SiteID: 10, LinkID: 100, Waiting: map[int64]bool{7: true}})
	of, done = tr.confirmed(100, 7)
	require.True(t, done)
	require.EqualValues(t, 3, of.ID, "a newer move of the link takes the place of the older")
	require.Equal(t, []int64{3}, idsOf(tr.answered(10)))

	tr.begin(&Open{ID: 4, SiteID: 10, LinkID: 100})
	require.Equal(t, []int64{4}, idsOf(tr.answered(10)))
	require.Empty(t, tr.byLink, "a site without services has nothing to confirm")
}
