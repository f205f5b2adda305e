package engine

import (
	"context"
	"time"
)

// runClock looks at the time of day once a second: a step is noticed although nobody asks for anything.
func (e *Engine) runClock(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			e.rooms.SiteSide.Since()
		case <-ctx.Done():
			return
		}
	}
}
