package vantage

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
)

var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

func assignment(id int64) contract.Assignment {
	return contract.Assignment{ID: id, Revision: 1, Target: "198.51.100.7", Ports: [2]int{443, 443}, Kind: probe.KindTCP,
		Transport: probe.TCP, Expected: probe.ExpectReachable, Interval: 60}
}

func TestWhatIsNewIsDueAtOnceAndWhatIsKnownWithinItsInterval(t *testing.T) {
	s := newSchedule()
	s.put(assignment(1), noon, false)
	got, wait := s.next(noon)
	require.EqualValues(t, 1, got.ID)
	require.Zero(t, wait)
	_, wait = s.next(noon)
	require.Equal(t, time.Minute, wait, "nothing is queued while the only task is under way")
	s.done(got, noon.Add(time.Minute), noon)
	_, wait = s.next(noon)
	require.Equal(t, time.Minute, wait)

	for id := int64(10); id < 60; id++ { // after a restart of the server nobody hurries
		s.put(assignment(id), noon, true)
	}
	due := 0
	for got, _ := s.next(noon.Add(30 * time.Second)); got != nil; got, _ = s.next(noon.Add(30 * time.Second)) {
		due++
	}
	require.Greater(t, due, 5)
	require.Less(t, due, 45, "they are spread over the interval")
}

func TestAnotherRevisionForgetsWhatWasSeenOfTheOneBefore(t *testing.T) {
	for what, edit := range map[string]func(*contract.Assignment){
		"revision": func(a *contract.Assignment) { a.Revision++ },
		"target":   func(a *contract.Assignment) { a.Target = "198.51.100.8" },
	} {
		t.Run(what, func(t *testing.T) {
			s := newSchedule()
			s.put(assignment(1), noon, false)
			got, _ := s.next(noon)
			got.view.Outcome = probe.Opened
			s.done(got, noon.Add(time.Minute), noon)
			a := assignment(1)
			edit(&a)
			s.put(a, noon.Add(time.Second), true)
			require.Empty(t, s.tasks[1].view.Outcome)
			got, _ = s.next(noon.Add(2 * time.Second))
			require.NotNil(t, got, "it is probed anew at once, although it came gently")
		})
	}
	s := newSchedule()
	s.put(assignment(1), noon, false)
	got, _ := s.next(noon)
	got.view.Outcome = probe.Opened
	s.done(got, noon.Add(time.Minute), noon)
	s.put(assignment(1), noon, true)
	require.Equal(t, probe.Opened, s.tasks[1].view.Outcome, "the same is no news")
}

func TestAHurryDuringAProbeComesRightAfterIt(t *testing.T) {
	s := newSchedule()
	s.put(assignment(1), noon, false)
	got, _ := s.next(noon)
	s.hurry(1, noon)
	s.tell(contract.ProbeTask{ID: 9, Service: 1}, noon)
	s.tell(contract.ProbeTask{ID: 9, Service: 404}, noon) // of a service that is gone
	s.done(got, noon.Add(time.Minute), noon)
	again, _ := s.next(noon)
	require.Same(t, got, again)
	require.Equal(t, []int64{9}, again.stories)
}

func TestWhatIsDroppedDuringItsProbeDoesNotComeBack(t *testing.T) {
	s := newSchedule()
	s.put(assignment(1), noon, false)
	s.put(assignment(2), noon, false)
	got, _ := s.next(noon)
	s.keep([]contract.Assignment{assignment(3 - got.ID)})
	s.done(got, noon, noon)
	require.Len(t, s.tasks, 1)
	require.Equal(t, 1, s.queue.Len())
	s.drop(404)
	s.hurry(404, noon)
	s.keep(nil)
	require.Empty(t, s.tasks)
	require.Zero(t, s.queue.Len())
}

func TestOutcomesWaitForTheServerAndOutliveTheProgram(t *testing.T) {
	dir := t.TempDir()
	s, err := openSpool(dir)
	require.NoError(t, err)
	for i := range int64(maxBatch + 10) {
		s.add(contract.OutcomeReport{Service: i}, false)
	}
	require.Len(t, s.soon, 1, "a full batch does not wait")
	batch := s.take()
	require.Len(t, batch, maxBatch)
	require.Equal(t, 10, s.len())
	s.putBack(batch) // the server was away
	require.NoError(t, s.save())
	info, err := os.Stat(filepath.Join(dir, spoolFile))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	again, err := openSpool(dir)
	require.NoError(t, err)
	require.Equal(t, maxBatch+10, again.len())
	require.EqualValues(t, 0, again.take()[0].Service, "the oldest comes first")
	require.NoFileExists(t, filepath.Join(dir, spoolFile), "what was taken over is not taken over twice")
	again.take()
	require.NoError(t, again.save())
	require.NoFileExists(t, filepath.Join(dir, spoolFile))

	require.NoError(t, os.WriteFile(filepath.Join(dir, spoolFile), []byte(`[{"service":`), 0o600))
	cut, err := openSpool(dir)
	require.NoError(t, err, "a file that was cut short stops nothing")
	require.Zero(t, cut.len())
}

func TestTheOldestOutcomesAreLostFirst(t *testing.T) {
	s, err := openSpool(t.TempDir())
	require.NoError(t, err)
	for i := range int64(maxSpool + 5) {
		s.add(contract.OutcomeReport{Service: i}, false)
	}
	require.Equal(t, maxSpool, s.len())
	require.EqualValues(t, 5, s.take()[0].Service)
	s.putBack([]contract.OutcomeReport{{Service: 1}, {Service: 2}})
	require.LessOrEqual(t, s.len(), maxSpool)
}
