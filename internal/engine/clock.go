package engine

import (
	"context"
	"time"
)

// steppedBack is how far the time of day has to step back to be noticed; less is what NTP does every day.
const steppedBack = 2 * time.Second

// runClock notices that the time of day was set back. Schedules do not go by it; what was remembered to be later than it is now is
// brought to now, so that silence is not overlooked for as long as the step was.
func (e *Engine) runClock(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	ahead := e.rooms.Now().Sub(e.rooms.Ticks())
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		now := e.rooms.Now()
		if is := now.Sub(e.rooms.Ticks()); is < ahead-steppedBack {
			e.rooms.Log.Warn("the time of day was set back", "by", (ahead - is).Round(time.Second))
			e.rooms.SiteSide.ClockSetBack(now)
			ahead = is
		} else {
			ahead = max(ahead, is)
		}
	}
}
