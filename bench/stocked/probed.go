package stocked

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/daemon"
)

// Probed waits until n services have been probed for the first time: what is measured then is measured without the rush of
// a start. Error: that of ctx.
func Probed(ctx context.Context, d *daemon.Daemon, n int) error {
	for {
		rounds := uint64(0)
		for _, count := range d.Engine().ProbeCounts().Outcomes {
			rounds += count
		}
		if rounds >= uint64(n) {
			return nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
