package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

func TestTheBookKeepsWhatCouldNotBeWritten(t *testing.T) {
	b := newBook()
	add := func(second int, o probe.Outcome) {
		b.add(ledger.Result{ServiceID: 1, VantageID: 2, Outcome: o, At: fixedClock().Add(time.Duration(second) * time.Second)}, time.Minute, probe.ExpectReachable, probe.StateReachable)
	}
	add(0, probe.Opened)
	add(10, probe.Opened)
	add(20, probe.Silent)
	b.standing(store.Standing{ServiceID: 1, State: probe.StateReachable})
	first := b.take(fixedClock(), true, false)
	require.Len(t, first.spans, 2, "the span that ended and the one that began")
	require.Len(t, first.standings, 1)
	require.Len(t, first.today, 1)
	require.True(t, b.take(fixedClock(), true, false).empty())

	b.putBack(first)
	add(30, probe.Silent)
	b.standing(store.Standing{ServiceID: 1, State: probe.StateUnreachable})
	b.putBack(page{standings: first.standings})
	require.Empty(t, b.take(fixedClock(), false, false).today, "a day that only grew waits for its turn")
	add(40, probe.Silent)
	b.putBack(first)
	second := b.take(fixedClock(), true, true)
	one := latest(second.spans)
	require.Len(t, one, 2, "a span that was put back and has grown is one row")
	require.EqualValues(t, 3, one[1].Count)
	require.Len(t, second.today, 1)
	sum := second.today[0].Sum(fixedClock().Add(-48*time.Hour), fixedClock().Add(48*time.Hour))
	require.EqualValues(t, 40, sum.Good, "the time between results counts as the state that it was in")
	require.Len(t, b.live(1, []int64{2, 9}), 1)
}

func TestHeardTimesAreCollected(t *testing.T) {
	h := heardList{at: map[int64]time.Time{}}
	now := fixedClock()
	h.note(1, now)
	require.Equal(t, now, h.last(site.Link{ID: 1, Heard: now.Add(-time.Hour)}))
	require.Equal(t, now.Add(time.Hour), h.last(site.Link{ID: 1, Heard: now.Add(time.Hour)}), "the record may know better, after a restart")
	d := h.take()
	require.Equal(t, map[int64]time.Time{1: now}, d)
	require.Empty(t, h.take())
	h.note(1, now.Add(time.Minute))
	h.putBack(map[int64]time.Time{1: now, 2: now})
	require.Equal(t, map[int64]time.Time{1: now.Add(time.Minute), 2: now}, h.take(), "what was put back does not take the place of something newer")
}

func TestCodesAreReadable(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		c := shortCode(3)
		require.Regexp(t, `^[A-HJ-KM-NP-Z2-9]{4}-[A-HJ-KM-NP-Z2-9]{4}-[A-HJ-KM-NP-Z2-9]{4}$`, c)
		require.False(t, seen[c])
		seen[c] = true
	}
	require.NotEqual(t, secret(), secret())
	require.GreaterOrEqual(t, len(secret()), 43, "256 bits")
}

func TestATrailTimesEachStageFromWhatItFollows(t *testing.T) {
	at := func(ms int) time.Time { return fixedClock().Add(time.Duration(ms) * time.Millisecond) }
	m := trail(store.Move{Noticed: at(0), Received: at(10), Recorded: at(15), Published: at(16), Answered: at(20), Seen: at(20016), Confirmed: at(516)})
	got := map[string][2]float64{}
	for _, s := range m.Stages {
		got[s.Name] = [2]float64{s.AfterMS, s.ReachedMS}
	}
	require.Equal(t, map[string][2]float64{"noticed": {0, 0}, "received": {10, 10}, "recorded": {5, 15}, "published": {1, 16},
		"answered": {4, 20}, "seen": {20000, 20016}, "confirmed": {500, 516}}, got)
	require.InDelta(t, 20016, m.TotalMS, 0.001)
	m = trail(store.Move{Noticed: at(0), Received: at(10)})
	require.InDelta(t, 10, m.TotalMS, 0.001)
	require.True(t, m.Stages[6].At.IsZero())
	m = trail(store.Move{Noticed: at(50), Received: at(10), Recorded: at(60)})
	require.Zero(t, m.Stages[1].AfterMS, "a sender whose clock runs ahead takes no negative time")
}
