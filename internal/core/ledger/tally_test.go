package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

var midnight = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func TestAccountSplitsAtHoursAndDays(t *testing.T) {
	d := Day{Start: midnight}
	from := midnight.Add(22*time.Hour + 59*time.Minute)
	rest := d.Account(probe.ExpectReachable, probe.StateReachable, from, midnight.Add(25*time.Hour))
	require.Equal(t, midnight.Add(24*time.Hour), rest, "the rest belongs to the next day")
	require.Equal(t, uint16(60), d.Hours[22].Good)
	require.Equal(t, uint16(3600), d.Hours[23].Good)
	require.Zero(t, d.Hours[21])
	d.Account(probe.ExpectReachable, probe.StateUnreachable, midnight.Add(time.Hour), midnight.Add(time.Hour+90*time.Second))
	d.Account(probe.ExpectReachable, probe.StateImpaired, midnight.Add(2*time.Hour), midnight.Add(2*time.Hour+10*time.Second))
	d.Account(probe.ExpectReachable, probe.StateUnknown, midnight.Add(3*time.Hour), midnight.Add(4*time.Hour))
	d.Account(probe.ExpectClosed, probe.StateUnreachable, midnight.Add(5*time.Hour), midnight.Add(5*time.Hour+time.Minute))
	require.Equal(t, []Hour{{0, 0, 90}, {0, 10, 0}, {}, {}, {60, 0, 0}}, d.Hours[1:6])
}

func TestManyShortStretchesAddUpToTheLongOne(t *testing.T) {
	d := Day{Start: midnight}
	at := midnight
	for at.Before(midnight.Add(time.Hour)) {
		next := at.Add(733 * time.Millisecond)
		d.Account(probe.ExpectReachable, probe.StateReachable, at, next)
		at = next
	}
	require.Equal(t, uint16(3600), d.Hours[0].Good)
}

func TestPackAndUnpack(t *testing.T) {
	d := Day{Start: midnight}
	for i := range d.Hours {
		d.Hours[i].Good = 3600
	}
	for range 1440 {
		d.Latency.Add(12 * time.Millisecond)
	}
	hours, latency := d.Pack()
	require.LessOrEqual(t, len(hours)+len(latency), 30, "a steady day is short")
	require.Equal(t, d, Unpack(midnight, hours, latency))
	d.Hours[3], d.Hours[4] = Hour{1800, 60, 1700}, Hour{}
	d.Latency.Add(0)
	d.Latency.Add(time.Hour)
	hours, latency = d.Pack()
	require.Equal(t, d, Unpack(midnight, hours, latency))
	for cut := range hours {
		Unpack(midnight, hours[:cut], latency[:min(cut, len(latency))])
	}
	require.Equal(t, Day{Start: midnight}, Unpack(midnight, nil, nil))
}

func TestQuantiles(t *testing.T) {
	var none Latencies
	_, ok := none.Quantile(0.5)
	require.False(t, ok)
	var odd, even Histogram
	for i := range 500 {
		odd.Add(time.Duration(2*i+1) * time.Millisecond)
		even.Add(time.Duration(2*i+2) * time.Millisecond)
	}
	var both Latencies
	both.Add(odd)
	both.Add(even)
	for q, want := range map[float64]float64{0.5: 500, 0.95: 950, 0.99: 990} {
		d, ok := both.Quantile(q)
		require.True(t, ok)
		require.InEpsilon(t, want, float64(d.Milliseconds()), 0.27, "at most a third of a doubling too long")
		require.GreaterOrEqual(t, float64(d.Milliseconds()), want)
	}
}

func TestUnknownTimeCountsAsUnknown(t *testing.T) {
	now := midnight.Add(12 * time.Hour)
	d := Day{Start: midnight}
	d.Account(probe.ExpectReachable, probe.StateReachable, midnight, midnight.Add(3*time.Hour))
	d.Account(probe.ExpectReachable, probe.StateUnreachable, midnight.Add(3*time.Hour), midnight.Add(4*time.Hour))
	a := Over(Windows()[0], []Day{d}, now)
	require.InDelta(t, 0.75, *a.Share, 1e-9)
	require.Equal(t, int64(20*3600), a.Unknown)
	require.Equal(t, int64(3600), a.Bad)
	empty := Over(Windows()[4], nil, now)
	require.Nil(t, empty.Share)
	require.Equal(t, int64(365*24*3600), empty.Unknown)
}

func TestASpanEndsWithItsMonth(t *testing.T) {
	end := time.Date(2026, 11, 30, 23, 59, 30, 0, time.UTC)
	open, _ := Fold(Span{}, Result{Outcome: probe.Opened, At: end}, time.Minute)
	next, fresh := Fold(open, Result{Outcome: probe.Opened, At: end.Add(45 * time.Second)}, time.Minute)
	require.True(t, fresh)
	require.Equal(t, int64(1), next.Count)
}
