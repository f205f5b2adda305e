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
