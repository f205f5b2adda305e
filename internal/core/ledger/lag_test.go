package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestLagsAreCountedByClass(t *testing.T) {
	var l LagCounts
	_, ok := l.Quantile(0.5)
	require.False(t, ok, "there are none")
	for range 98 {
		l.Add(3 * time.Millisecond)
	}
	l.Add(100 * time.Millisecond) // on the bound is within it
	l.Add(300 * time.Millisecond)
	for q, want := range map[float64]time.Duration{0.5: 5 * time.Millisecond, 0.98: 5 * time.Millisecond,
		0.99: 100 * time.Millisecond, 1: 500 * time.Millisecond} {
		got, ok := l.Quantile(q)
		require.True(t, ok)
		require.Equal(t, want, got, "%v", q)
	}
	require.Equal(t, 98*3*time.Millisecond+400*time.Millisecond, l.Sum)
	l.Add(time.Minute)
	_, ok = l.Quantile(1)
	require.False(t, ok, "beyond the last bound")
}

func TestADayBeginsAtMidnightUTC(t *testing.T) {
	east := time.FixedZone("east", 3*3600)
	require.Equal(t, time.Date(2026, 11, 22, 0, 0, 0, 0, time.UTC), DayOf(time.Date(2026, 11, 23, 2, 0, 0, 0, east)))
	require.Equal(t, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), DayOf(time.Date(2026, 11, 23, 23, 59, 59, 0, time.UTC)))
}
