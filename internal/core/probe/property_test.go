package probe

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Of three vantage points and more, one alone never flips a service that the others reach: whatever it saw, and for however long.
// Two of three that agree for long enough do.
func TestOneVantagePointNeverFlipsAState(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	now := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	view := func(outcomes ...Outcome) View {
		at := now.Add(-time.Duration(rng.IntN(20)) * time.Second)
		return View{Outcome: outcomes[rng.IntN(len(outcomes))], InRow: 1 + rng.IntN(50),
			Since: at.Add(-time.Duration(rng.IntN(3600)) * time.Second), At: at}
	}
	flips := 0
	for range 5_000 {
		views := []View{view(Answered, Opened, Refused, Silent, Unroutable, Garbled, Stranger), view(Answered, Opened),
			view(Answered, Opened)}
		for range rng.IntN(4) {
			views = append(views, view(Answered, Opened))
		}
		rng.Shuffle(len(views), func(i, j int) { views[i], views[j] = views[j], views[i] })
		rule := Rule{Expected: ExpectReachable, Mute: rng.IntN(2) == 0, Sustain: time.Duration(rng.IntN(30)) * time.Second,
			Stale: time.Minute}
		before := []State{StateReachable, StateImpaired, StateUnreachable, StateUnknown}[rng.IntN(4)]
		require.Equal(t, StateReachable, Verdict(rule, before, views, now), "%+v %s %+v", rule, before, views)
		if two := []View{view(Refused), view(Refused), view(Answered)}; Verdict(rule, StateReachable, two, now) != StateReachable {
			flips++
		}
	}
	require.Positive(t, flips)
}

// The order in which vantage points are listed makes no difference.
func TestTheOrderOfViewsDoesNotMatter(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	now := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	outcomes := []Outcome{Answered, Opened, Refused, Silent, Unroutable, Garbled, Stranger, Skipped}
	states := []State{StateReachable, StateImpaired, StateUnreachable, StateExposed, StateUnknown}
	for range 5_000 {
		var views []View
		for range rng.IntN(6) {
			at := now.Add(-time.Duration(rng.IntN(120)) * time.Second)
			views = append(views, View{Outcome: outcomes[rng.IntN(len(outcomes))], InRow: rng.IntN(6),
				Since: at.Add(-time.Duration(rng.IntN(60)) * time.Second), At: at})
		}
		rule := Rule{Expected: []Expected{ExpectReachable, ExpectClosed}[rng.IntN(2)], Mute: rng.IntN(2) == 0,
			Sustain: 10 * time.Second, Stale: time.Minute}
		before := states[rng.IntN(len(states))]
		want := Verdict(rule, before, views, now)
		rng.Shuffle(len(views), func(i, j int) { views[i], views[j] = views[j], views[i] })
		require.Equal(t, want, Verdict(rule, before, views, now), "%+v %s %+v", rule, before, views)
	}
}
