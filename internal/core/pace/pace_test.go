package pace

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func TestNextSpreadsByATenth(t *testing.T) {
	require.Equal(t, 54*time.Second, Next(now, time.Minute, false, 0).Sub(now))
	require.Equal(t, time.Minute, Next(now, time.Minute, false, 0.5).Sub(now))
	require.Less(t, Next(now, time.Minute, false, 0.999).Sub(now), 66*time.Second)
}

func TestThreeProbesFitInTenSeconds(t *testing.T) {
	for _, interval := range []time.Duration{5 * time.Second, time.Minute, time.Hour} {
		require.LessOrEqual(t, 2*Next(now, interval, true, 0.9).Sub(now), 10*time.Second-3*time.Second, interval)
	}
	require.Equal(t, time.Second, ConfirmGap(5*time.Second))
}

func TestFirstIsWithinTheIntervalAndAMinute(t *testing.T) {
	require.Equal(t, now, First(now, time.Hour, 0))
	require.Equal(t, now.Add(30*time.Second), First(now, time.Hour, 0.5))
	require.Equal(t, now.Add(5*time.Second), First(now, 10*time.Second, 0.5))
}

func TestBackoff(t *testing.T) {
	require.Equal(t, time.Second, Backoff(0, time.Second, time.Minute, 0))
	require.Equal(t, 8*time.Second, Backoff(3, time.Second, time.Minute, 0))
	require.Equal(t, time.Minute, Backoff(9, time.Second, time.Minute, 0))
	require.Equal(t, time.Minute, Backoff(500, time.Second, time.Minute, 0), "does not overflow")
	require.Equal(t, 4*time.Second, Backoff(3, time.Second, time.Minute, 1), "spread takes off up to half")
}
