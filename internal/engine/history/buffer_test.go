package history

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/store"
)

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

func TestTheBufferKeepsWhatCouldNotBeWritten(t *testing.T) {
	b := newBuffer()
	add := func(second int, o probe.Outcome) {
		b.add(ledger.Result{ServiceID: 1, VantageID: 2, Outcome: o, At: fixedClock().Add(time.Duration(second) * time.Second)},
			time.Minute, probe.ExpectReachable, probe.StateReachable)
	}
	add(0, probe.Opened)
	add(10, probe.Opened)
	add(20, probe.Silent)
	b.state(store.ServiceState{ServiceID: 1, State: probe.StateReachable})
	first := b.take(fixedClock(), true, false)
	require.Len(t, first.spans, 2, "the span that ended and the one that began")
	require.Len(t, first.states, 1)
	require.Len(t, first.today, 1)
	require.True(t, b.take(fixedClock(), true, false).empty())

	b.putBack(first)
	add(30, probe.Silent)
	b.state(store.ServiceState{ServiceID: 1, State: probe.StateUnreachable})
	b.putBack(batch{states: first.states})
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

func TestADayThatWasShownGoesOnWhereTheOtherServerIsGone(t *testing.T) {
	at := func(second int) time.Time { return fixedClock().Add(time.Duration(second) * time.Second) }
	probed := func(b *buffer, service int64, second int) {
		b.add(ledger.Result{ServiceID: service, VantageID: 2, Outcome: probe.Opened, At: at(second), Latency: time.Millisecond},
			time.Minute, probe.ExpectReachable, probe.StateReachable)
	}
	good := func(b *buffer, service int64) int64 {
		day, ok := b.today(service)
		require.True(t, ok)
		return day.Sum(day.Start, day.Start.Add(24*time.Hour)).Good
	}
	writer, other := &History{buffer: newBuffer()}, &History{buffer: newBuffer()}
	_, ok := writer.Today(1)
	require.False(t, ok, "it was not probed yet")
	for second := range 41 {
		probed(writer.buffer, 1, second)
		probed(writer.buffer, 2, second)
	}
	inDatabase, _ := writer.buffer.today(1)
	for second := 41; second <= 50; second++ {
		probed(writer.buffer, 1, second)
	}
	shown, ok := writer.Today(1)
	require.True(t, ok)
	probed(writer.buffer, 1, 51)
	other.ShowToday(1, shown)
	require.EqualValues(t, 50, good(other.buffer, 1), "as it was then")
	require.EqualValues(t, 51, good(writer.buffer, 1))

	behind, _ := writer.buffer.today(2)
	other.ShowToday(2, func() Today { early, _ := writer.Today(2); early.Start = early.Start.AddDate(0, 0, -1); return early }())
	other.buffer.resume(map[int64]ledger.Day{1: inDatabase, 2: behind})
	require.EqualValues(t, 50, good(other.buffer, 1), "more than the database has")
	require.EqualValues(t, 40, good(other.buffer, 2), "what was shown is of another day")
	probed(other.buffer, 1, 59)
	require.EqualValues(t, 50, good(other.buffer, 1), "in between nobody looked")
	probed(other.buffer, 1, 60)
	require.EqualValues(t, 51, good(other.buffer, 1))
	written := other.buffer.take(at(60), true, true).today
	require.Len(t, written, 1, "what the database does not have is written")
	require.EqualValues(t, 1, written[0].ServiceID)
}
