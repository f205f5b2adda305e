// Package pace decides when a service port is probed next.
package pace

import "time"

// Bounds of a service's probe interval.
const (
	MinInterval = 5 * time.Second
	MaxInterval = 24 * time.Hour
)

// ConfirmGap is the wait before a result that differs is tried again: a fifth of the interval, 500 ms to 3 s, so that
// three probes fit in ten seconds.
func ConfirmGap(interval time.Duration) time.Duration {
	return min(max(interval/5, 500*time.Millisecond), 3*time.Second)
}

// Next gives when a port is due again after a probe that ended at now. confirming asks for the fast pace. spread is a
// random number from 0 up to 1: the interval is drawn out or shortened by up to a tenth, so that services that started
// together drift apart.
func Next(now time.Time, interval time.Duration, confirming bool, spread float64) time.Time {
	if confirming {
		return now.Add(ConfirmGap(interval))
	}
	return now.Add(interval + time.Duration((spread-0.5)*0.2*float64(interval)))
}

// First gives when a port is first due after a start at now: somewhere in its first interval, at most a minute away, so
// that a restart does not probe everything at once.
func First(now time.Time, interval time.Duration, spread float64) time.Time {
	return now.Add(time.Duration(spread * float64(min(interval, time.Minute))))
}

// Backoff gives the wait before attempt n (from 0) of something that failed: it doubles from base up to most, and
// spread (0 up to 1) takes off up to half of it.
func Backoff(n int, base, most time.Duration, spread float64) time.Duration {
	wait := most
	if n < 32 && base<<n > 0 && base<<n < most {
		wait = base << n
	}
	return wait - time.Duration(spread*0.5*float64(wait))
}
