package siteside

import (
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

func TestTimesAheadOfAClockThatWasSetBackAreBroughtToNow(t *testing.T) {
	noon := fixedClock()
	s := Side{heard: newLastHeard()}
	h := &s.heard
	s.NoteHeard(1, noon.Add(6*time.Hour))
	s.NoteHeard(2, noon.Add(-time.Minute))
	s.ClockSetBack(noon)
	require.Equal(t, noon, h.at[1])
	require.Equal(t, noon.Add(-time.Minute), h.at[2])
}
