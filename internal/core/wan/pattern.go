package wan

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// PatternKind says what a provider's changes of an address follow.
type PatternKind string

// The kinds: the clock on the wall, or the time since the line was connected.
const (
	ByClock   PatternKind = "clock"
	ByConnect PatternKind = "connect"
)

// Pattern is the rhythm at which a link's address changes, as learned from its changes.
type Pattern struct {
	Kind   PatternKind
	Days   int           // by the clock: every so many days
	At     time.Duration // by the clock: after midnight, local time
	After  time.Duration // by the connection: so long after each change
	Spread time.Duration // nine in ten changes were off by no more than this
	Held   int           // changes that came on time
	Of     int           // times at which one was due
	Last   time.Time     // the newest change that fits
}

// Limits of what is learned.
const (
	patternLeast  = 4 // changes that fit, before anything is said
	maxPattern    = 40
	clockOff      = 20 * time.Minute // from the usual time of day
	connectOff    = 3                // per cent of the usual time between two changes, and two minutes at least
	connectLeast  = time.Hour
	maxDays       = 31
	patternMisses = 0.6 // of the times that are due a change has to come at least
	patternNoise  = 0.25
	patternStale  = 4 // times without a change, after which the pattern is over
)

// Sure is the probability, from 0 to 1, that the next change comes on time (Laplace's rule of succession).
func (p Pattern) Sure() float64 { return float64(p.Held+1) / float64(p.Of+2) }

// Next returns the first time after now at which a change is due. A time of day is local: it follows daylight-saving time.
func (p Pattern) Next(now time.Time, local *time.Location) time.Time {
	if p.Kind == ByConnect {
		next := p.Last.Add(p.After)
		if missed := now.Sub(next); missed > 0 {
			next = next.Add((missed/p.After + 1) * p.After)
		}
		return next
	}
	y, m, d := p.Last.In(local).Date()
	for n := p.Days; ; n += p.Days {
		at := time.Date(y, m, d+n, 0, 0, int(p.At.Seconds()), 0, local)
		if p.At > 0 { // the hour that the clock shows, on days of 23 or 25 hours too
			at = time.Date(y, m, d+n, int(p.At.Hours()), int(p.At.Minutes())%60, int(p.At.Seconds())%60, 0, local)
		}
		if at.After(now) {
			return at
		}
	}
}

func (p Pattern) String() string {
	sure := fmt.Sprintf("%d of %d times", p.Held, p.Of)
	if p.Kind == ByConnect {
		return fmt.Sprintf("about %s after each change (%s)", spelled(p.After), sure)
	}
	clock := fmt.Sprintf("%02d:%02d", int(p.At.Hours()), int(p.At.Minutes())%60)
	if p.Days == 1 {
		return fmt.Sprintf("every day at about %s (%s)", clock, sure)
	}
	return fmt.Sprintf("every %d days at about %s (%s)", p.Days, clock, sure)
}

func spelled(d time.Duration) string {
	d = d.Round(time.Minute)
	if d >= 48*time.Hour && d%(24*time.Hour) < time.Hour {
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	}
	if m := d % time.Hour; m > 0 {
		return fmt.Sprintf("%d h %d min", d/time.Hour, m/time.Minute)
	}
	return fmt.Sprintf("%d h", d/time.Hour)
}

// LearnPattern finds the rhythm of a link's changes, the oldest first. Local is where the provider's clock is. ok is false if there are too
// few, if they are irregular, or if the rhythm has ended.
func LearnPattern(changes []time.Time, now time.Time, local *time.Location) (p Pattern, ok bool) {
	if len(changes) > maxPattern {
		changes = changes[len(changes)-maxPattern:]
	}
	if len(changes) < patternLeast {
		return p, false
	}
	clock, byClock := learnClock(changes, now, local)
	connect, byConnect := learnConnect(changes, now)
	switch {
	case byClock && (!byConnect || clock.Sure() >= connect.Sure()):
		return clock, true
	case byConnect:
		return connect, true
	}
	return p, false
}

// learnClock looks for a time of day.
func learnClock(changes []time.Time, now time.Time, local *time.Location) (p Pattern, ok bool) {
	day := func(t time.Time) int { // counts local days
		y, m, d := t.In(local).Date()
		return int(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
	}
	clock := func(t time.Time) time.Duration {
		h, m, s := t.In(local).Clock()
		return time.Duration(h)*time.Hour + time.Duration(m)*time.Minute + time.Duration(s)*time.Second
	}
	at := usualClock(changes, clock)
	var fit []time.Time
	var days []int
	var offs []time.Duration
	for _, t := range changes {
		off := aroundClock(clock(t) - at)
		if off.Abs() > clockOff {
			continue
		}
		d := day(t.Add(-off)) // one just before midnight belongs to the day after
		if len(days) > 0 && d == days[len(days)-1] {
			continue
		}
		fit, days, offs = append(fit, t), append(days, d), append(offs, off.Abs())
	}
	if len(fit) < patternLeast || float64(len(changes)-len(fit)) > patternNoise*float64(len(changes)) {
		return p, false
	}
	every := 0
	for i := 1; i < len(days); i++ {
		every = common(every, days[i]-days[i-1])
	}
	if every == 0 || every > maxDays {
		return p, false
	}
	due := (days[len(days)-1]-days[0])/every + 1
	p = Pattern{Kind: ByClock, Days: every, At: at.Round(time.Minute) % (24 * time.Hour), Spread: ninth(offs),
		Held: len(fit), Of: due, Last: fit[len(fit)-1]}
	return p, float64(p.Held) >= patternMisses*float64(p.Of) && day(now)-days[len(days)-1] <= patternStale*every
}

// usualClock is the time of day around which most changes lie.
func usualClock(changes []time.Time, clock func(time.Time) time.Duration) time.Duration {
	clocks := make([]time.Duration, len(changes))
	for i, t := range changes {
		clocks[i] = clock(t)
	}
	var best time.Duration
	most := -1
	for _, at := range clocks {
		near, sum := 0, time.Duration(0)
		for _, other := range clocks {
			if off := aroundClock(other - at); off.Abs() <= clockOff {
				near, sum = near+1, sum+off
			}
		}
		if near > most {
			most, best = near, at+sum/time.Duration(near)
		}
	}
	return (best + 24*time.Hour) % (24 * time.Hour)
}

// aroundClock brings a difference of two times of day into half a day either way.
func aroundClock(off time.Duration) time.Duration {
	const day = 24 * time.Hour
	off = (off%day + day) % day
	if off > day/2 {
		off -= day
	}
	return off
}

// learnConnect looks for a time between two changes.
func learnConnect(changes []time.Time, now time.Time) (p Pattern, ok bool) {
	var between []time.Duration
	for i := 1; i < len(changes); i++ {
		between = append(between, changes[i].Sub(changes[i-1]))
	}
	sorted := slices.Sorted(slices.Values(between))
	after := sorted[len(sorted)/2]
	if after < connectLeast || after > maxDays*24*time.Hour {
		return p, false
	}
	most := max(after*connectOff/100, 2*time.Minute)
	var offs []time.Duration
	due := 0
	for _, d := range between {
		times := max(1, int(math.Round(float64(d)/float64(after))))
		off := (d - time.Duration(times)*after).Abs()
		if off > most { // somebody reconnected in between: it begins anew
			continue
		}
		due += times
		offs = append(offs, off)
	}
	if len(offs) < patternLeast-1 || float64(len(between)-len(offs)) > patternNoise*float64(len(between)) {
		return p, false
	}
	p = Pattern{Kind: ByConnect, After: after.Round(time.Minute), Spread: ninth(offs), Held: len(offs), Of: due,
		Last: changes[len(changes)-1]}
	return p, float64(p.Held) >= patternMisses*float64(p.Of) && now.Sub(p.Last) <= patternStale*after
}

func ninth(offs []time.Duration) time.Duration {
	slices.Sort(offs)
	return offs[len(offs)*9/10]
}

func common(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
