package moves

import (
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
)

// waiting is a room with moves 3 and 4 of link 1 that are accepted and in no table yet.
func waiting() *Moves {
	m := New(nil, events.NewHub(fixedClock), fixedClock, time.UTC, nil, slog.New(slog.DiscardHandler))
	for id := int64(3); id <= 4; id++ {
		m.Accept(store.Group{Changes: []store.Change{{ID: id, SiteID: 1, LinkID: 1, Source: wan.SourceSTUN, Noticed: fixedClock(),
			New: wan.PairOf(netip.AddrFrom4([4]byte{198, 51, 100, byte(id)}))}}})
	}
	return m
}

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

func labels(linkID int64) (site, link string, ok bool) { return "KET-07", "main", linkID == 1 }

func ids(list []store.Move) (out []int64) {
	for _, m := range list {
		out = append(out, m.ID)
	}
	return out
}

func TestWhatIsAcceptedIsReadBeforeItIsSettled(t *testing.T) {
	m := waiting()
	settled := []store.Move{{ID: 2, SiteID: 1, LinkID: 1}, {ID: 1, SiteID: 1, LinkID: 1, Confirmed: fixedClock()}}
	for what, x := range map[string]struct {
		f    store.MoveFilter
		list []store.Move
		want []int64
	}{
		"all":                     {store.MoveFilter{Limit: 9}, settled, []int64{4, 3, 2, 1}},
		"the newest three":        {store.MoveFilter{Limit: 3}, settled, []int64{4, 3, 2}},
		"of another site":         {store.MoveFilter{SiteID: 7, Limit: 9}, nil, nil},
		"before one":              {store.MoveFilter{Before: 4, Limit: 9}, settled, []int64{3, 2, 1}},
		"of a source":             {store.MoveFilter{Source: wan.SourceGateway, Limit: 9}, nil, nil},
		"that came to an address": {store.MoveFilter{Address: netip.MustParseAddr("198.51.100.3"), Limit: 9}, nil, []int64{3}},
		"since later":             {store.MoveFilter{Since: fixedClock().Add(time.Second), Limit: 9}, nil, nil},
		"that are not finished":   {store.MoveFilter{Unfinished: true, Limit: 9}, settled, []int64{4, 3, 2}},
		"one is in the table by now": {store.MoveFilter{Limit: 9}, append([]store.Move{{ID: 3, SiteID: 1, LinkID: 1}}, settled...),
			[]int64{4, 3, 2, 1}},
	} {
		t.Run(what, func(t *testing.T) { require.Equal(t, x.want, ids(m.With(x.list, x.f, labels))) })
	}
	list := m.With(nil, store.MoveFilter{Limit: 9}, labels)
	require.Equal(t, "KET-07", list[0].Site)
	require.Equal(t, "main", list[0].Link)
}

func TestStagesThatAreNotSettledAreReadToo(t *testing.T) {
	m := waiting()
	answered, confirmed := fixedClock().Add(time.Millisecond), fixedClock().Add(time.Second)
	m.Reached(store.Stages{MoveID: 2, Confirmed: confirmed})
	m.Reached(store.Stages{MoveID: 4, Answered: answered})
	m.Reached(store.Stages{MoveID: 2, ZoneID: 7, Published: confirmed}) // of a remote zone: the table alone tells
	list := m.With([]store.Move{{ID: 2, SiteID: 1, LinkID: 1, Answered: answered}}, store.MoveFilter{Limit: 9}, labels)
	require.Equal(t, []int64{4, 3, 2}, ids(list))
	require.Equal(t, answered, list[0].Answered)
	require.Equal(t, confirmed, list[2].Confirmed)
	require.Equal(t, answered, list[2].Answered)
	require.Zero(t, list[2].Published)
	require.Equal(t, []int64{4, 3}, ids(m.With([]store.Move{{ID: 2}}, store.MoveFilter{Unfinished: true, Limit: 9}, labels)),
		"a move that is confirmed is finished")
}
