package siteside

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
)

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

func TestHeardTimesAreCollected(t *testing.T) {
	s := Side{heard: newLastHeard()}
	h := &s.heard
	now := fixedClock()
	s.NoteHeard(1, now)
	require.Equal(t, now, s.LastHeard(site.Link{ID: 1, Heard: now.Add(-time.Hour)}))
	require.Equal(t, now.Add(time.Hour), s.LastHeard(site.Link{ID: 1, Heard: now.Add(time.Hour)}),
		"the record may know better, after a restart")
	d := h.take()
	require.Equal(t, map[int64]time.Time{1: now}, d)
	require.Empty(t, h.take())
	s.NoteHeard(1, now.Add(time.Minute))
	h.putBack(map[int64]time.Time{1: now, 2: now})
	require.Equal(t, map[int64]time.Time{1: now.Add(time.Minute), 2: now}, h.take(),
		"what was put back does not take the place of something newer")
}

func TestSilenceCountsAnewFromWhenTheClockWasSet(t *testing.T) {
	noon, ticks := fixedClock(), fixedClock()
	wall := noon
	s := Side{heard: newLastHeard(), Config: Config{Now: func() time.Time { return wall }, Ticks: func() time.Time { return ticks },
		Log: slog.New(slog.DiscardHandler)}}
	s.clock.since, s.clock.ahead = s.Now(), s.ahead()
	pass := func(d time.Duration) { wall, ticks = wall.Add(d), ticks.Add(d) }
	pass(time.Hour)
	require.Equal(t, noon, s.Since())
	s.NoteHeard(1, wall)
	wall = wall.Add(90 * time.Minute)
	require.Equal(t, wall, s.Since(), "it was set forward: what seems to be 90 minutes of silence is none")
	s.NoteHeard(2, wall)
	for range 100 { // by a tenth, as a clock is slewed
		pass(time.Second)
		wall = wall.Add(100 * time.Millisecond)
		require.True(t, s.Since().Before(wall.Add(-time.Second)))
	}
	wall = wall.Add(-time.Hour)
	require.Equal(t, wall, s.Since(), "it was set back")
	require.Equal(t, wall, s.LastHeard(site.Link{ID: 2}), "what lies ahead is brought to now")
	require.Equal(t, noon.Add(time.Hour), s.LastHeard(site.Link{ID: 1}))
}
