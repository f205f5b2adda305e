package wan

import (
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata" // a machine without its own may test this

	"github.com/stretchr/testify/require"
)

// local has daylight-saving time, from 29 March to 25 October 2026.
func local(t *testing.T) *time.Location {
	t.Helper()
	l, err := time.LoadLocation("Europe/Amsterdam")
	require.NoError(t, err)
	return l
}

// daily makes changes at a local time of day, every so many days, each off by jitter at most.
func daily(l *time.Location, from string, count, days int, hour, minute int, jitter time.Duration, r *rand.Rand) (out []time.Time) {
	first, _ := time.ParseInLocation(time.DateOnly, from, l)
	for i := range count {
		at := time.Date(first.Year(), first.Month(), first.Day()+i*days, hour, minute, 0, 0, l)
		if jitter > 0 {
			at = at.Add(time.Duration(r.Int64N(int64(2*jitter))) - jitter)
		}
		out = append(out, at)
	}
	return out
}

func after(from time.Time, count int, every, jitter time.Duration, r *rand.Rand) (out []time.Time) {
	for at := from; len(out) < count; at = at.Add(every + time.Duration(r.Int64N(int64(2*jitter))) - jitter) {
		out = append(out, at)
	}
	return out
}

func without(list []time.Time, gone ...int) (out []time.Time) {
	for i, t := range list {
		keep := true
		for _, g := range gone {
			keep = keep && i != g
		}
		if keep {
			out = append(out, t)
		}
	}
	return out
}

func with(list []time.Time, more ...time.Time) []time.Time {
	out := append(append([]time.Time{}, list...), more...)
	for i := range out {
		for j := i; j > 0 && out[j].Before(out[j-1]); j-- {
			out[j], out[j-1] = out[j-1], out[j]
		}
	}
	return out
}

func TestTheRhythmOfAProviderIsLearned(t *testing.T) {
	l := local(t)
	r := rand.New(rand.NewPCG(1, 2))
	day := func(text string) time.Time {
		at, err := time.ParseInLocation("2006-01-02 15:04", text, l)
		require.NoError(t, err)
		return at
	}
	start := day("2026-05-04 17:42")
	for name, c := range map[string]struct {
		changes []time.Time
		words   string
		next    string // local
		off     time.Duration
	}{
		"each night": {daily(l, "2026-05-01", 14, 1, 3, 10, 0, r),
			"every day at about 03:10 (14 of 14 times)", "2026-05-15 03:10", 0},
		"each night, more or less": {daily(l, "2026-05-01", 14, 1, 3, 10, 8*time.Minute, r), "every day at about 03:",
			"2026-05-15 03:10", 8 * time.Minute},
		"each night, three missed": {without(daily(l, "2026-05-01", 14, 1, 3, 10, 4*time.Minute, r), 3, 4, 9),
			"(11 of 14 times)", "2026-05-15 03:10", 5 * time.Minute},
		"each night, and reconnected by hand": {with(daily(l, "2026-05-01", 14, 1, 3, 10, 0, r), day("2026-05-06 11:03"),
			day("2026-05-09 19:30")), "every day at about 03:10", "2026-05-15 03:10", 0},
		"around midnight": {daily(l, "2026-05-01", 14, 1, 0, 1, 6*time.Minute, r), "every day at about",
			"2026-05-15 00:01", 6 * time.Minute},
		"each week": {daily(l, "2026-05-01", 7, 7, 4, 30, 2*time.Minute, r), "every 7 days at about 04:",
			"2026-06-19 04:30", 3 * time.Minute},
		"every third day": {without(daily(l, "2026-05-01", 9, 3, 2, 0, time.Minute, r), 4),
			"every 3 days at about 0", "2026-05-28 02:00", 2 * time.Minute},
		"over the change in spring": {daily(l, "2026-03-22", 14, 1, 3, 10, 0, r),
			"every day at about 03:10 (14 of 14 times)", "2026-04-05 03:10", 0},
		"over the change in autumn": {daily(l, "2026-10-18", 14, 1, 3, 10, 0, r),
			"every day at about 03:10 (14 of 14 times)", "2026-11-01 03:10", 0},
		"23 hours after each":            {after(start, 12, 23*time.Hour, 2*time.Minute, r), "about 23 h", "", 0},
		"36 hours after each, in autumn": {after(day("2026-10-20 06:00"), 10, 36*time.Hour, 3*time.Minute, r), "about 3", "", 0},
		"a day after each, with a reconnect": {append(after(start, 6, 24*time.Hour, time.Minute, r),
			after(day("2026-05-10 09:20"), 6, 24*time.Hour, time.Minute, r)...), "about 2", "2026-05-16 09:20", 12 * time.Minute},
	} {
		last := c.changes[len(c.changes)-1]
		p, ok := LearnPattern(c.changes, last.Add(time.Hour), l)
		require.True(t, ok, name)
		require.Contains(t, p.String(), c.words, name)
		require.Greater(t, p.Sure(), 0.7, name)
		next := p.Next(last.Add(time.Hour), l)
		if c.next == "" {
			require.WithinDuration(t, last.Add(p.After), next, 0, name)
			continue
		}
		require.WithinDuration(t, day(c.next), next, c.off+time.Minute, "%s: %s", name, next)
	}
}

func TestTheClockIsTheOneOnTheWall(t *testing.T) {
	l := local(t)
	r := rand.New(rand.NewPCG(3, 4))
	spring := daily(l, "2026-03-15", 14, 1, 3, 10, 0, r) // up to the 28th: the night before the change
	p, ok := LearnPattern(spring, spring[13].Add(time.Hour), l)
	require.True(t, ok)
	require.Equal(t, 23*time.Hour, p.Next(spring[13].Add(time.Minute), l).Sub(spring[13]))
	autumn := daily(l, "2026-10-11", 14, 1, 3, 10, 0, r)
	p, ok = LearnPattern(autumn, autumn[13].Add(time.Hour), l)
	require.True(t, ok)
	require.Equal(t, 25*time.Hour, p.Next(autumn[13].Add(time.Minute), l).Sub(autumn[13]))
}

func TestWhatIsNoRhythmIsNotCalledOne(t *testing.T) {
	l := local(t)
	start := time.Date(2026, 5, 1, 0, 0, 0, 0, l)
	said := 0
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 5))
		var random []time.Time
		at := start
		for range 6 + r.IntN(20) { // at any time, half an hour to four days apart
			at = at.Add(30*time.Minute + time.Duration(r.Int64N(int64(96*time.Hour))))
			random = append(random, at)
		}
		if _, ok := LearnPattern(random, at.Add(time.Hour), l); ok {
			said++
		}
	}
	require.LessOrEqual(t, said, 2, "of 200 links without a rhythm")
	r := rand.New(rand.NewPCG(6, 7))
	for name, changes := range map[string][]time.Time{
		"none":                    nil,
		"three":                   daily(l, "2026-05-01", 3, 1, 3, 10, 0, r),
		"a line that flaps":       after(start, 12, 4*time.Minute, time.Minute, r),
		"office hours, every day": daily(l, "2026-05-01", 14, 1, 12, 0, 5*time.Hour, r),
		"months apart":            daily(l, "2025-01-01", 5, 61, 3, 10, 0, r),
	} {
		now := start.AddDate(0, 0, 20)
		if len(changes) > 0 {
			now = changes[len(changes)-1].Add(time.Hour)
		}
		_, ok := LearnPattern(changes, now, l)
		require.False(t, ok, name)
	}
	nightly := daily(l, "2026-05-01", 14, 1, 3, 10, 0, r)
	_, ok := LearnPattern(nightly, nightly[13].AddDate(0, 0, 5), l)
	require.False(t, ok, "a rhythm that has ended")
}
