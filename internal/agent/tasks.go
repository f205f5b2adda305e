package agent

import (
	"context"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
)

// obey asks the server what is to be done at the site, and does it: scan the devices on record, at intervals and when asked to, and prove
// that ports are forwarded. It touches nothing that is not on the site's record.
func (r *runner) obey(ctx context.Context) {
	var orders contract.AgentTasks
	var next time.Time
	var wg sync.WaitGroup
	defer wg.Wait()
	proving := map[int64]bool{}
	var watched time.Time
	lookedAgain := 0
	for failures := 0; ctx.Err() == nil; {
		if soon := watched.Add(roundFloor); r.renewed.Swap(false) && soon.Before(next) {
			next = soon
		}
		patient, done := r.lost.wait(ctx)
		got, err := r.to.tasks(patient, orders.Version, time.Until(next))
		severed := patient.Err() != nil
		done()
		if err != nil && severed {
			continue // on a new connection
		}
		if err != nil {
			if !pause(ctx, pace.Backoff(failures, time.Second, maxRetry, rand.Float64())) {
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
		due := got.Scan != 0 || got.Version != orders.Version || time.Now().After(next)
		orders = got
		if due {
			watched = time.Now()
		}
		if !due {
			continue
		}
		unsure := (len(orders.Watch) > 0 || orders.Scan != 0) && r.watch(ctx, orders)
		if lookedAgain++; unsure && lookedAgain < unsureMost {
			next = time.Now().Add(unsurePause)
		} else {
			lookedAgain = 0
			next = time.Now().Add(max(time.Second, time.Duration(orders.Every*float64(time.Second))))
		}
	}
}

// proofPause is how often tasks are asked for while a path is being proven.
const proofPause = 200 * time.Millisecond

// A device that was there a moment ago, and does not answer, is looked at again soon: within a minute the system asks for it anew.
const (
	unsurePause = 5 * time.Second
	unsureMost  = 12
)

// watch looks at the devices on record once and tells the server. Those that it does not find are searched for meanwhile. unsure: of one of
// them it is not known whether it is still there.
func (r *runner) watch(ctx context.Context, o contract.AgentTasks) (unsure bool) {
	r.finder.ask(ctx, r.o.LAN, o.Watch)
	if o.Scan != 0 {
		r.askRouter(ctx, o.Watch)
	}
	seen, missing := r.report(ctx, o, true)
	if len(missing) > 0 {
		r.side.Go(func() {
			defer r.finder.done()
			r.log.Info("devices are not where they should be; the LAN is searched for them", "devices", len(missing))
			search(ctx, r.o.LAN, missing)
			if ctx.Err() == nil {
				r.report(ctx, contract.AgentTasks{Watch: o.Watch}, false)
			}
		})
	}
	return slices.ContainsFunc(seen, func(d contract.DeviceReport) bool { return d.Unsure && d.Present })
}

// report looks, and tells the server what it saw. With searching, it returns the devices that are to be searched for: until that is done,
// nothing is certain of them.
func (r *runner) report(ctx context.Context, o contract.AgentTasks, searching bool) (seen []contract.DeviceReport,
	missing []contract.WatchedDevice) {
	report := contract.LANReport{Scan: o.Scan}
	neighbours, err := r.o.LAN.Neighbours(ctx)
	if err != nil {
		report.Problem = err.Error()
	}
	send := func(report contract.LANReport) {
		if err := r.to.any.ReportLAN(ctx, report); err != nil && ctx.Err() == nil {
			r.log.Warn("the device reports could not be sent", "error", err)
		}
	}
	early := func(list []contract.DeviceReport) { // where some are not, the rest takes a while
		if len(list) > 0 && len(list) < len(o.Watch) {
			send(contract.LANReport{Devices: list, Problem: report.Problem})
		}
	}
	report.Devices = survey(ctx, r.o.LAN, neighbours, o.Watch, early)
	if searching {
		missing = r.finder.missing(o.Watch, report.Devices)
	}
	for i := range report.Devices {
		one := &report.Devices[i]
		one.Unsure = one.Unsure || slices.ContainsFunc(missing, func(d contract.WatchedDevice) bool { return d.Device == one.Device })
	}
	r.loopBack(ctx, o.Scan != 0, o.Watch, report.Devices)
	table, _ := r.o.LAN.Neighbours(ctx)
	r.finder.sixes(r.o.LAN, table, o.Watch, report.Devices)
	r.tellStatus(func(s *Status) { s.LAN, s.LANTrouble = report.Devices, report.Problem })
	send(report)
	return report.Devices, missing
}
