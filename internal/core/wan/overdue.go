package wan

import "time"

// Overdue says whether an agent that checks in at every should have been heard from by now: four checks missed, and
// never less than 20 s. listening is when the server began to listen: silence before it proves nothing.
func Overdue(heard, listening, now time.Time, every time.Duration) bool {
	since := heard
	if listening.After(since) {
		since = listening
	}
	return now.Sub(since) > max(4*every, 20*time.Second)
}
