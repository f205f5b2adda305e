package wan

import "time"

// Overdue reports whether an agent that checks in at every should have been heard from by now: four checks missed, and
// never less than 20 s. listening is when the server began to listen: silence before it proves nothing.
func Overdue(heard, listening, now time.Time, every time.Duration) bool {
	since := heard
	if listening.After(since) {
		since = listening
	}
	return now.Sub(since) > max(4*every, 20*time.Second)
}

// Travel is how long an announcement may take to arrive and be processed.
const Travel = 3 * time.Second

// maxPatience bounds how long a router's rhythm is waited for: some announce once a day.
const maxPatience = time.Minute

// Patience is how long a new address may take to be announced by an agent or router that checks it once every.
func Patience(every time.Duration) time.Duration {
	if every <= 0 {
		return 0
	}
	return min(every, maxPatience) + Travel
}
