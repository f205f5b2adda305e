package vantage

import (
	"math/rand/v2"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// task is one assignment, and what was seen of it.
type task struct {
	contract.Assignment
	due     time.Time
	place   int // in the queue; -1 while a probe is under way
	again   bool
	view    probe.View
	stories []int64
	series  *probe.Series // how far packets got since the failure began, that the server does not have yet
}

// DueAt implements pace.Dated.
func (t *task) DueAt() time.Time { return t.due }

// PutAt implements pace.Dated.
func (t *task) PutAt(place int) { t.place = place }

func (t *task) interval() time.Duration { return time.Duration(t.Interval * float64(time.Second)) }

func (t *task) rule() probe.Rule {
	s := site.Service{Kind: t.Kind, Transport: t.Transport, Options: probe.Share(t.Options)}
	return probe.Rule{Expected: t.Expected, Mute: s.Mute(), Sustain: pace.Sustain(t.interval()), Stale: pace.Stale(t.interval())}
}

// same reports whether another assignment is about the same thing at the same place.
func (t *task) same(a contract.Assignment) bool {
	return t.Target == a.Target && t.Also == a.Also && t.Revision == a.Revision
}

// schedule says what is due when.
type schedule struct {
	tasks map[int64]*task
	queue pace.Queue[*task]
	burst pace.Burst
}

func newSchedule() schedule { return schedule{tasks: map[int64]*task{}} }

// put takes an assignment over. With gently it is due within its interval; otherwise it is new or has changed, and somebody
// waits to hear of it.
func (s *schedule) put(a contract.Assignment, now time.Time, gently bool) {
	t := s.tasks[a.ID]
	if t == nil {
		t = &task{Assignment: a, due: now}
		if gently {
			t.due = pace.First(now, t.interval(), rand.Float64())
		}
		s.tasks[a.ID] = t
		s.queue.Add(t)
		return
	}
	if !t.same(a) {
		t.view = probe.View{}
		gently = false
	}
	t.Assignment = a
	if !gently {
		s.hurry(a.ID, now)
	}
}

// keep drops everything that is not in a list.
func (s *schedule) keep(list []contract.Assignment) {
	there := make(map[int64]bool, len(list))
	for _, a := range list {
		there[a.ID] = true
	}
	for id := range s.tasks {
		if !there[id] {
			s.drop(id)
		}
	}
}

func (s *schedule) drop(id int64) {
	if t := s.tasks[id]; t != nil {
		if t.place >= 0 {
			s.queue.Remove(t.place)
		}
		delete(s.tasks, id)
	}
}

func (s *schedule) hurry(id int64, now time.Time) {
	t := s.tasks[id]
	switch {
	case t == nil:
	case t.place < 0:
		t.again = true
	default:
		t.due = s.burst.Turn(now)
		s.queue.Fix(t.place)
	}
}

// tell notes that a caller waits for the trace of a probe.
func (s *schedule) tell(o contract.ProbeTask, now time.Time) {
	if t := s.tasks[o.Service]; t != nil && o.Look == nil {
		t.stories = append(t.stories, o.ID)
		s.hurry(o.Service, now)
	}
}

// next takes the first task that is due; if there is none, it returns how long to wait.
func (s *schedule) next(now time.Time) (*task, time.Duration) {
	if s.queue.Len() == 0 {
		return nil, time.Minute
	}
	if wait := s.queue.Peek().due.Sub(now); wait > 0 {
		return nil, wait
	}
	return s.queue.Pop(), 0
}

// done requeues a task after a probe.
func (s *schedule) done(t *task, due, now time.Time) {
	if s.tasks[t.ID] != t {
		return
	}
	t.due = due
	if t.again {
		t.due, t.again = now, false
	}
	s.queue.Add(t)
}
