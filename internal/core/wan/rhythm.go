package wan

import (
	"slices"
	"time"
)

// MaxRhythm is how many announcements a rhythm is judged by, at most.
const MaxRhythm = 9

// Rhythm returns how often something without an agent, such as a router that fetches a URL, announces, from when it did so lately, the
// oldest first. ok is false if there are fewer than five, or where they come at no regular pace: silence then proves nothing.
func Rhythm(at []time.Time) (every time.Duration, ok bool) {
	if len(at) < 5 {
		return 0, false
	}
	pauses := make([]time.Duration, 0, len(at))
	for i := 1; i < len(at); i++ {
		pauses = append(pauses, at[i].Sub(at[i-1]))
	}
	slices.Sort(pauses)
	every = pauses[len(pauses)/2]
	return every, every > 0 && pauses[len(pauses)-1] <= 3*every && pauses[0] >= every/3
}

// OutOfRhythm reports whether something that announces at a rhythm should have been heard from by now: three times missed, and a minute.
func OutOfRhythm(heard, listening, now time.Time, every time.Duration) bool {
	if listening.After(heard) {
		heard = listening
	}
	return every > 0 && now.Sub(heard) > 3*every+time.Minute
}
