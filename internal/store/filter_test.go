package store

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/wan"
)

var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

// A move that is not settled yet is taken or left by the same rules as one that the table gives.
func TestAFilterTakesTheSameMovesInMemoryAsInTheTable(t *testing.T) {
	m := Move{ID: 7, SiteID: 1, LinkID: 2, Source: wan.SourceSTUN, Noticed: noon,
		Old: wan.PairOf(netip.MustParseAddr("198.51.100.1")),
		New: wan.Pair{IPv4: netip.MustParseAddr("198.51.100.2"), IPv6: netip.MustParseAddr("2001:db8::2")}}
	for what, x := range map[string]struct {
		f    MoveFilter
		want bool
	}{
		"nothing asked":         {MoveFilter{}, true},
		"its site":              {MoveFilter{SiteID: 1}, true},
		"another site":          {MoveFilter{SiteID: 3}, false},
		"its link":              {MoveFilter{LinkID: 2}, true},
		"another link":          {MoveFilter{LinkID: 3}, false},
		"older than a newer":    {MoveFilter{Before: 8}, true},
		"older than itself":     {MoveFilter{Before: 7}, false},
		"since that moment":     {MoveFilter{Since: noon}, true},
		"since later":           {MoveFilter{Since: noon.Add(1)}, false},
		"until later":           {MoveFilter{Until: noon.Add(1)}, true},
		"until that moment":     {MoveFilter{Until: noon}, false},
		"its source":            {MoveFilter{Source: wan.SourceSTUN}, true},
		"another source":        {MoveFilter{Source: wan.SourceGateway}, false},
		"an address it left":    {MoveFilter{Address: netip.MustParseAddr("198.51.100.1")}, true},
		"an address it came to": {MoveFilter{Address: netip.MustParseAddr("2001:db8::2")}, true},
		"an address of another": {MoveFilter{Address: netip.MustParseAddr("198.51.100.3")}, false},
		"all of it at once": {MoveFilter{SiteID: 1, LinkID: 2, Before: 9, Since: noon, Until: noon.Add(time.Hour),
			Source: wan.SourceSTUN}, true},
		"one of it wrong": {MoveFilter{SiteID: 1, LinkID: 2, Before: 9, Since: noon, Until: noon.Add(time.Hour),
			Source: wan.SourceFixed}, false},
	} {
		require.Equal(t, x.want, x.f.Takes(m), what)
	}
}

func TestAMoveKeepsTheStagesThatALaterWordLeavesOut(t *testing.T) {
	m := Move{ID: 7, Recorded: noon, Answered: noon.Add(time.Second)}
	later := m.With(Stages{MoveID: 7, Published: noon.Add(time.Millisecond), Confirmed: noon.Add(2 * time.Second)})
	require.Equal(t, noon, later.Recorded)
	require.Equal(t, noon.Add(time.Millisecond), later.Published)
	require.Equal(t, noon.Add(time.Second), later.Answered)
	require.Equal(t, noon.Add(2*time.Second), later.Confirmed)
	require.Zero(t, m.Confirmed, "the one before is left alone")
	require.Equal(t, m, m.With(Stages{MoveID: 7, ZoneID: 3, Published: noon}), "what a remote zone's primary took is another matter")
}

func TestStagesOfOneMoveAreWrittenTogether(t *testing.T) {
	got := merged([]Stages{{MoveID: 1, Recorded: noon}, {MoveID: 2, Recorded: noon}, {MoveID: 1, Answered: noon.Add(time.Second)},
		{MoveID: 1, ZoneID: 3, Published: noon}})
	require.Equal(t, map[int64]Stages{1: {MoveID: 1, Recorded: noon, Answered: noon.Add(time.Second)}, 2: {MoveID: 2, Recorded: noon}}, got)
	require.Empty(t, merged(nil))
}
