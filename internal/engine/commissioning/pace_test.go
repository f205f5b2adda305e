package commissioning

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/store"
)

// asked counts how often a site is asked on a simulated clock, with somebody following all the while.
func asked(r *Room, now *time.Time, lasts time.Duration) (times int) {
	for end := now.Add(lasts); now.Before(end); *now = now.Add(lookEvery) {
		r.open[7].read = *now
		if r.toAsk(7) {
			times++
		}
	}
	return times
}

func TestAPageThatIsLeftOpenDoesNotWearARouterDown(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	r := &Room{now: func() time.Time { return now }, open: map[int64]*run{7: {Commissioning: store.Commissioning{SiteID: 7, Began: now}}}}
	require.InDelta(t, 60, asked(r, &now, 5*time.Minute), 1, "every five seconds while the work goes on")
	now = now.Add(11 * time.Minute)
	require.InDelta(t, 480, asked(r, &now, 8*time.Hour), 2, "once a minute over night")
	r.open[7].Results = []commission.Result{{At: now}}
	require.InDelta(t, 60, asked(r, &now, 5*time.Minute), 1, "somebody goes on")
	now = now.Add(time.Minute)
	require.False(t, r.toAsk(7), "nobody follows it any more")
}
