package views

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/store"
)

func TestATrailTimesEachStageFromWhatItFollows(t *testing.T) {
	at := func(ms int) time.Time { return fixedClock().Add(time.Duration(ms) * time.Millisecond) }
	m := trail(store.Move{Noticed: at(0), Received: at(10), Recorded: at(15), Published: at(16), Answered: at(20), Seen: at(20016),
		Confirmed: at(516)})
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

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }
