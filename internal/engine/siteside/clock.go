package siteside

import (
	"time"

	"inkpost.example/inkpost/internal/engine/locks"
)

// stepped is how far the time of day has to step from one look to the next to be noticed; less is what NTP does every day.
const stepped = 2 * time.Second

// clock knows since when the time of day goes on as ticks do.
type clock struct {
	mu    locks.Leaf
	since time.Time
	ahead time.Duration // the time of day, of the ticks
}

func (s *Side) ahead() time.Duration { return s.Now().Sub(s.Ticks()) }

// Since is when this server began to listen, or its time of day was last set, or its machine was last asleep: how long ago anything was
// cannot be told from times that were noted before. No silence before that proves anything, and what lies ahead is moved to now, so that
// silence is not overlooked, either. It is called at least once a second.
func (s *Side) Since() time.Time {
	s.clock.mu.Lock()
	is := s.ahead()
	by := is - s.clock.ahead
	if s.clock.ahead = is; by.Abs() > stepped {
		s.clock.since = s.Now()
	}
	since := s.clock.since
	s.clock.mu.Unlock()
	if by.Abs() > stepped {
		s.Log.Warn("the time of day was set", "by", by.Round(time.Second))
		s.heard.bring(since)
	}
	return since
}

// bring moves times that lie ahead of now to now.
func (h *lastHeard) bring(now time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, at := range h.at {
		if at.After(now) {
			h.at[id] = now
		}
	}
}
