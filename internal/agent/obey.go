package agent

import (
	"context"
	"math/rand/v2"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
)

// obey asks the server what is to be done at the site, and does it: look at the devices on record at intervals and when somebody
// waits for it, and prove that ports are passed on. It touches nothing that is not on the site's record.
func (r *runner) obey(ctx context.Context) {
	var orders contract.Orders
	var next time.Time
	var wg sync.WaitGroup
	defer wg.Wait()
	proving := map[int64]bool{}
	for failures := 0; ctx.Err() == nil; {
		patient, done := r.lost.wait(ctx)
		got, err := r.to.orders(patient, orders.Version, time.Until(next))
		severed := patient.Err() != nil
		done()
		if err != nil && severed {
			continue // on a new connection
		}
		if err != nil {
			if !pause(ctx, pace.Backoff(failures, time.Second, retryMost, rand.Float64())) {
				return
			}
			failures++
			continue
		}
		failures = 0
		if got.Check {
			r.look(reason{words: "something fails at the address", cheap: true})
		}
		if len(got.Proofs) > 0 && !pause(ctx, proofPause) { // the server has nothing new while one is under way
			return
		}
		for _, p := range got.Proofs {
			if !proving[p.ID] {
				proving[p.ID] = true
				wg.Go(func() { r.prove(ctx, p) })
			}
		}
		due := got.Look != 0 || got.Version != orders.Version || time.Now().After(next)
		orders = got
		if due && (len(orders.Watch) > 0 || orders.Look != 0) {
			r.watch(ctx, orders)
		}
		if due {
			next = time.Now().Add(max(time.Second, time.Duration(orders.Every*float64(time.Second))))
		}
	}
}

// proofPause is how often is asked for orders while a path is being proven.
const proofPause = 200 * time.Millisecond

// watch looks at the devices on record once and tells the server.
func (r *runner) watch(ctx context.Context, o contract.Orders) {
	report := contract.LANReport{Look: o.Look}
	neighbours, err := r.o.LAN.Neighbours(ctx)
	if err != nil {
		report.Problem = err.Error()
	}
	report.Sightings = survey(ctx, r.o.LAN, neighbours, o.Watch)
	r.tellStatus(func(s *Status) { s.LAN, s.LANTrouble = report.Sightings, report.Problem })
	if err := r.to.any.ReportLAN(ctx, report); err != nil && ctx.Err() == nil {
		r.log.Warn("what the LAN looks like could not be told", "error", err)
	}
}
