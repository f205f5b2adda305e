package notice

import "time"

const (
	// burstWithin and burstMost bound how many messages of one thing each a recipient gets: what comes beyond is put together.
	burstWithin = 10 * time.Minute
	burstMost   = 5
	// burstPause is how long what is put together waits after the message before.
	burstPause = 5 * time.Minute
)

// Gather decides what becomes of so much that is due: each thing is a message alone, or all of it is one together, or, where it is neither,
// it waits. sent has when the recipient was told something like it, the newest last; gather is how long it is put together for.
func Gather(due int, oldest time.Time, sent []time.Time, gather time.Duration, now time.Time) (alone, together bool) {
	lately := 0
	var last time.Time
	for _, at := range sent {
		if now.Sub(at) < burstWithin {
			lately++
		}
		last = at
	}
	switch {
	case due == 0:
		return false, false
	case gather > 0 && last.IsZero():
		return false, now.Sub(oldest) >= min(gather, time.Minute)
	case gather > 0:
		return false, now.Sub(last) >= gather
	case lately+due <= burstMost:
		return true, false
	}
	return false, lately < burstMost || now.Sub(last) >= burstPause
}
