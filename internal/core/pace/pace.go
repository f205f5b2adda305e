// Package pace decides when a service port is probed next.
package pace

import "time"

// Bounds of a service's probe interval.
const (
	MinInterval = 10 * time.Second
	MaxInterval = 24 * time.Hour
)

// ConfirmGap is the wait before a result that differs is tried again: a fifth of the interval, 500 ms to 3 s, so that
// three probes fit in ten seconds.
func ConfirmGap(interval time.Duration) time.Duration {
	return min(max(interval/5, 500*time.Millisecond), 3*time.Second)
}

// leastGap is the shortest wait before a result is tried again.
const leastGap = 250 * time.Millisecond

// Sustain is how long a result for the worse has to last before it is believed: half the interval, 30 s at most. A hiccup of a provider is
// shorter; an outage is reported within two intervals all the same.
func Sustain(interval time.Duration) time.Duration { return min(interval/2, 30*time.Second) }

// Stale is how old the newest result of a vantage point may be to count.
func Stale(interval time.Duration) time.Duration { return 3*interval + 15*time.Second }

// ByName is how often a service is also tried the whole way by its hostname: every tenth round, every five minutes at
// least.
func ByName(interval time.Duration) time.Duration {
	return max(min(10*interval, 5*time.Minute), interval)
}

// Next returns when a port is due again after a probe that ended at now. spread is a random number from 0 up to 1: the interval is drawn
// out or shortened by up to a tenth, so that services that started together drift apart.
func Next(now time.Time, interval time.Duration, spread float64) time.Time {
	return now.Add(interval + time.Duration((spread-0.5)*0.2*float64(interval)))
}

// Confirm returns when a result for the worse is tried again that was first seen at since, and inRow times by now: fast until it was seen
// often enough, and again when it has lasted nearly long enough: a few times then, so that a hiccup and a lost packet together do not pass
// for an outage. took is how long the result was waited for: that wait is part of the gap.
func Confirm(now, since time.Time, took time.Duration, inRow, enough int, interval time.Duration) time.Time {
	gap := ConfirmGap(interval)
	last := since.Add(Sustain(interval) - 2*gap)
	if soon := now.Add(max(gap-took, leastGap)); inRow < enough || soon.After(last) {
		return soon
	}
	return last
}

// First returns when a port is first due after a start at now: somewhere in its first interval, at most a minute away, so that a restart
// does not probe everything at once.
func First(now time.Time, interval time.Duration, spread float64) time.Time {
	return now.Add(time.Duration(spread * float64(min(interval, time.Minute))))
}

// Burst paces bursts of work, as when thousands of sites move: the first burstRoom start at once,
// further ones at burstRate a second. The zero Burst is ready.
type Burst struct{ full time.Time }

const (
	burstRoom = 200
	burstRate = 1000
)

// Turn returns when the next one may start.
func (b *Burst) Turn(now time.Time) time.Time {
	if b.full.Before(now) {
		b.full = now
	}
	b.full = b.full.Add(time.Second / burstRate)
	if at := b.full.Add(-time.Second * burstRoom / burstRate); at.After(now) {
		return at
	}
	return now
}

// MaxAtOnce is how many attempts may be under way at once in a process that may open that many files: half of the descriptors stay free for
// everything else.
func MaxAtOnce(files uint64) int { return int(min(max(files/2, 64), 4096)) }

// MaxAtTarget is how many attempts may be under way at one address at the same time: a small router forgets connections
// where there are many.
const MaxAtTarget = 8

// Backoff returns the wait before attempt n (from 0) of something that failed: it doubles from base up to most, and spread (0 up to 1)
// takes off up to half of it.
func Backoff(n int, base, most time.Duration, spread float64) time.Duration {
	wait := most
	if n < 32 && base<<n > 0 && base<<n < most {
		wait = base << n
	}
	return wait - time.Duration(spread*0.5*float64(wait))
}
