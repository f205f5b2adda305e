package vantage

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
)

func TestAllDarkAtOnceIsOurOwnFault(t *testing.T) {
	var h health
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	all := func(m probe.Meaning, at time.Time) {
		for i := range 6 {
			h.saw(contract.Assignment{Target: fmt.Sprintf("203.0.113.%d", i)}, m, at)
		}
	}
	all(probe.AsWanted, now)
	require.False(t, h.horizon(now).Blind())
	all(probe.NotWanted, now.Add(20*time.Second))
	require.True(t, h.horizon(now.Add(20*time.Second)).Blind())
	h.saw(contract.Assignment{Target: "203.0.113.3"}, probe.AsWanted, now.Add(21*time.Second))
	require.False(t, h.horizon(now.Add(21*time.Second)).Blind(), "one answers: the way out works")
	all(probe.NotWanted, now.Add(10*time.Minute))
	require.False(t, h.horizon(now.Add(10*time.Minute)).Blind(), "they have been dark for long: that is theirs")
	h.saw(contract.Assignment{Target: "203.0.113.1", Expected: probe.ExpectClosed}, probe.AsWanted, now.Add(10*time.Minute))
	require.Empty(t, h.horizon(now.Add(10*time.Minute)), "a closed door that is closed says nothing of the way out")
}

func TestScheduleFollowsTheNews(t *testing.T) {
	now := time.Now()
	s := newSchedule()
	a := contract.Assignment{ID: 1, Target: "203.0.113.1", Ports: [2]int{80, 80}, Kind: probe.KindHTTP, Transport: probe.TCP, Interval: 60}
	s.put(a, now, false)
	got, _ := s.next(now)
	require.NotNil(t, got, "what is new is due at once")
	s.hurry(1, now)
	s.done(got, now.Add(time.Minute), now)
	got, _ = s.next(now)
	require.NotNil(t, got, "somebody was in a hurry meanwhile")
	s.done(got, now.Add(time.Minute), now)
	got, wait := s.next(now)
	require.Nil(t, got)
	require.Equal(t, time.Minute, wait)
	got = s.tasks[1]
	got.view.InRow = 7
	a.Target = "203.0.113.2"
	s.put(a, now, true)
	got, _ = s.next(now)
	require.NotNil(t, got, "a new address is due at once")
	require.Zero(t, got.view.InRow, "and nothing is known of it")
	s.drop(1)
	s.done(got, now, now)
	require.Zero(t, s.queue.Len(), "what was dropped does not come back")
	s.put(a, now, true)
	s.keep(nil)
	require.Empty(t, s.tasks)
}

func TestTheSpoolKeepsWhatIsNotReturned(t *testing.T) {
	dir := t.TempDir()
	s, err := openSpool(dir)
	require.NoError(t, err)
	for i := range maxBatch + 5 {
		s.add(contract.OutcomeReport{Service: int64(i)}, false)
	}
	batch := s.take()
	require.Len(t, batch, maxBatch)
	s.putBack(batch)
	require.NoError(t, s.save())
	again, err := openSpool(dir)
	require.NoError(t, err)
	require.Equal(t, maxBatch+5, again.len())
	require.Zero(t, again.take()[0].Service, "in order")
	require.Len(t, again.take(), 5)
	require.NoError(t, again.save())
}
