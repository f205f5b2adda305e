package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestFold(t *testing.T) {
	began := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return began.Add(time.Duration(s) * time.Second) }
	gap := Gap(time.Minute)
	add := func(s Span, second int, o probe.Outcome, ms int) (Span, bool) {
		return Fold(s, Result{ServiceID: 1, VantageID: 2, Outcome: o, At: at(second), Latency: time.Duration(ms) * time.Millisecond}, gap)
	}
	s, fresh := add(Span{}, 0, probe.Opened, 10)
	require.True(t, fresh)
	s, fresh = add(s, 60, probe.Opened, 30)
	require.False(t, fresh)
	s, fresh = add(s, 120, probe.Opened, 0)
	require.False(t, fresh)
	require.Equal(t, Span{ServiceID: 1, VantageID: 2, Outcome: probe.Opened, From: at(0), Until: at(120), Count: 3, Timed: 2,
		Fastest: 10000, Total: 40000, Slowest: 30000}, s)
	require.EqualValues(t, 20000, s.Mean())

	same, fresh := add(s, 100, probe.Refused, 1)
	require.False(t, fresh, "a result from before the span's end is dropped")
	require.Equal(t, s, same)

	other, fresh := add(s, 180, probe.Silent, 0)
	require.True(t, fresh)
	require.EqualValues(t, 1, other.Count)
	require.Zero(t, other.Mean())

	later, fresh := add(s, 120+int(gap.Seconds())+1, probe.Opened, 5)
	require.True(t, fresh, "time in which nobody looked stays a gap")
	require.Equal(t, later.From, later.Until)
}

func TestAYearOfASteadyServiceIsOneSpanAMonth(t *testing.T) {
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	var s Span
	rows := 0
	for range 365 * 24 * 60 {
		var fresh bool
		if s, fresh = Fold(s, Result{Outcome: probe.Opened, At: at, Latency: time.Millisecond}, Gap(time.Minute)); fresh {
			rows++
		}
		at = at.Add(time.Minute)
	}
	require.Equal(t, 12, rows)
	require.EqualValues(t, 31*24*60, s.Count)
}
