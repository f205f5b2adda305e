package pace

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func TestNextSpreadsByATenth(t *testing.T) {
	require.Equal(t, 54*time.Second, Next(now, time.Minute, 0).Sub(now))
	require.Equal(t, time.Minute, Next(now, time.Minute, 0.5).Sub(now))
	require.Less(t, Next(now, time.Minute, 0.999).Sub(now), 66*time.Second)
}

func TestThreeProbesFitInTenSeconds(t *testing.T) {
	for _, interval := range []time.Duration{10 * time.Second, time.Minute, time.Hour} {
		second := Confirm(now, now, 0, 1, 3, interval)
		third := Confirm(second, now, 0, 2, 3, interval)
		require.LessOrEqual(t, third.Sub(now), 10*time.Second-3*time.Second, interval)
		tries, at := 0, third
		for at.Sub(now) < Sustain(interval) {
			at = Confirm(at, now, 0, 3+tries, 3, interval)
			tries++
		}
		require.LessOrEqual(t, tries, 4, "and a few more when it has lasted")
		require.Less(t, at.Sub(now), 2*interval)
	}
	require.Equal(t, 2*time.Second, ConfirmGap(10*time.Second))
	require.Equal(t, now.Add(leastGap), Confirm(now, now, 3*time.Second, 1, 3, 10*time.Second), "the deadline was waited for already")
}

func TestABurstIsSpreadOut(t *testing.T) {
	var b Burst
	last := now
	for range 5000 {
		at := b.Turn(now)
		require.False(t, at.Before(last))
		last = at
	}
	require.InDelta(t, 4.8, last.Sub(now).Seconds(), 0.01, "the first 200 at once, then 1000 a second")
	require.Equal(t, now.Add(time.Minute), b.Turn(now.Add(time.Minute)), "it is over by then")
}

func TestBounds(t *testing.T) {
	require.Equal(t, []int{64, 512, 4096}, []int{MaxAtOnce(100), MaxAtOnce(1024), MaxAtOnce(1 << 20)})
	require.Equal(t, 30*time.Second, Sustain(time.Minute))
	require.Equal(t, 5*time.Second, Sustain(10*time.Second))
	require.Equal(t, []time.Duration{100 * time.Second, 5 * time.Minute, time.Hour},
		[]time.Duration{ByName(10 * time.Second), ByName(time.Minute), ByName(time.Hour)})
}

func TestFirstIsWithinTheIntervalAndAMinute(t *testing.T) {
	require.Equal(t, now, First(now, time.Hour, 0))
	require.Equal(t, now.Add(30*time.Second), First(now, time.Hour, 0.5))
	require.Equal(t, now.Add(5*time.Second), First(now, 10*time.Second, 0.5))
}

func TestBackoff(t *testing.T) {
	require.Equal(t, time.Second, Backoff(0, time.Second, time.Minute, 0))
	require.Equal(t, 8*time.Second, Backoff(3, time.Second, time.Minute, 0))
	require.Equal(t, time.Minute, Backoff(9, time.Second, time.Minute, 0))
	require.Equal(t, time.Minute, Backoff(500, time.Second, time.Minute, 0), "does not overflow")
	require.Equal(t, 4*time.Second, Backoff(3, time.Second, time.Minute, 1), "spread takes off up to half")
}

type task struct {
	due   time.Time
	place int
}

func (t *task) DueAt() time.Time { return t.due }
func (t *task) PutAt(place int)  { t.place = place }

func TestAQueueGivesWhatIsDueFirst(t *testing.T) {
	var q Queue[*task]
	var all []*task
	for _, s := range []int{5, 1, 4, 2, 3} {
		x := &task{due: now.Add(time.Duration(s) * time.Second)}
		all = append(all, x)
		q.Add(x)
	}
	all[0].due = now
	q.Fix(all[0].place)
	q.Remove(all[2].place)
	require.Equal(t, -1, all[2].place)
	var got []*task
	for q.Len() > 0 {
		require.Equal(t, 0, q.Peek().place)
		got = append(got, q.Pop())
	}
	require.Equal(t, []*task{all[0], all[1], all[3], all[4]}, got)
}

// The queue against a plain list: whatever is added, put off, and taken out, what is due first comes first.
func TestAQueueIsAnOrderedList(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	var q Queue[*task]
	var model []*task
	at := func() time.Time { return now.Add(time.Duration(rng.IntN(1_000_000)) * time.Microsecond) }
	for range 4_000 {
		switch rng.IntN(4) {
		case 0, 1:
			x := &task{due: at()}
			q.Add(x)
			model = append(model, x)
		case 2:
			if len(model) > 0 {
				x := model[rng.IntN(len(model))]
				x.due = at()
				q.Fix(x.place)
			}
		case 3:
			if len(model) > 0 && rng.IntN(2) == 0 {
				i := rng.IntN(len(model))
				q.Remove(model[i].place)
				require.Equal(t, -1, model[i].place)
				model = slices.Delete(model, i, i+1)
			} else if len(model) > 0 {
				x := q.Pop()
				for _, other := range model {
					require.False(t, other.due.Before(x.due))
				}
				model = slices.DeleteFunc(model, func(other *task) bool { return other == x })
			}
		}
		require.Equal(t, len(model), q.Len())
	}
	require.NotEmpty(t, model)
}
