package notice

import "time"

const (
	// burstWithin and burstMost bound how many messages of one thing each a recipient gets: what comes beyond is put together.
	burstWithin = 10 * time.Minute
	burstMost   = 5
	// burstPause is how long what is put together waits after the message before.
	burstPause = 5 * time.Minute
)

// Gather decides how much of what is due now goes into messages of its own, one thing each, and whether the rest goes together into one:
// otherwise it waits. sent has when the recipient was told something, the newest last; gather the longest time that any of its rules
// gathers for.
func Gather(due int, oldest time.Time, sent []time.Time, gather time.Duration, now time.Time) (alone int, together bool) {
	if due == 0 {
		return 0, false
	}
	lately := 0
	var last time.Time
	for _, at := range sent {
		if now.Sub(at) < burstWithin {
			lately++
		}
		last = at
	}
	switch {
	case gather > 0 && now.Sub(last) < gather, gather > 0 && last.IsZero() && now.Sub(oldest) < min(gather, time.Minute):
		return 0, false
	case gather > 0:
		return 0, true
	case lately+due <= burstMost:
		return due, false
	case lately >= burstMost && now.Sub(last) < burstPause:
		return 0, false
	}
	return 0, true
}
