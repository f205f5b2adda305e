package site

import "time"

// HoldDown is how long a link has to work again before what follows the preferred link comes back to it.
const HoldDown = 2 * time.Minute

// LinkSigns is the evidence on whether a link is up.
type LinkSigns struct {
	Heard  time.Time     // when its agent was heard last
	Every  time.Duration // how often the agent is heard
	Agent  bool          // whether it has one
	Down   time.Time     // when an agent of the site said that nothing goes through it; zero if none does
	Proven time.Time     // when a service was last reached through it
	Since  time.Time     // since when it has been working or failing without a break
}

// Fails reports whether a link is down: an agent of the site says so, or its own agent missed a check and nothing has been reached through
// it since. Silence counts only from when the server began to listen.
func (s LinkSigns) Fails(now, listening time.Time) bool {
	if s.Down.After(s.Heard) && s.Down.After(s.Proven) {
		return true
	}
	if !s.Agent {
		return false
	}
	last := s.Heard
	if listening.After(last) {
		last = listening
	}
	missed := last.Add(s.Every + grace(s.Every))
	return now.After(missed) && !s.Proven.After(last.Add(s.Every))
}

// grace is how much later than due a check may come.
func grace(every time.Duration) time.Duration { return max(every/4, time.Second) }
