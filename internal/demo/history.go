package demo

import (
	"context"
	"errors"
	"hash/fnv"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store"
)

// The demo's past is made up: ninety days in which each simulated link moved now and then and some services failed. It is
// written through the real ledger and the real record, on a simulated clock.
const (
	pastDays  = 90
	pastEvery = 5 * time.Minute // the interval of the made-up probes
)

// chance returns random numbers that are the same at every run for the same thing.
func chance(of string) *rand.Rand {
	h := fnv.New64a()
	_, _ = h.Write([]byte(of))
	return rand.New(rand.NewPCG(h.Sum64(), 7))
}

// pastAddresses returns the addresses that a link had, the oldest first, and how many days ago each began.
func pastAddresses(p place, l connection) (addresses []netip.Addr, daysAgo []float64) {
	addresses, daysAgo = []netip.Addr{l.first}, []float64{pastDays}
	if l.static {
		return addresses, daysAgo
	}
	r := chance(p.code + l.label)
	another := func(day float64) {
		b := l.first.As4()
		b[2], b[3] = byte(1+r.IntN(250)), byte(1+r.IntN(250))
		addresses, daysAgo = append(addresses, netip.AddrFrom4(b)), append(daysAgo, day)
	}
	if l.nightly {
		midnight := time.Now()
		midnight = time.Date(midnight.Year(), midnight.Month(), midnight.Day(), 0, 0, 0, 0, time.Local)
		for night := 10; night >= 1; night-- {
			at := midnight.AddDate(0, 0, -night).Add(3*time.Hour + time.Duration(8+5*r.Float64())*time.Minute)
			another(time.Since(at).Hours() / 24)
		}
		return addresses, daysAgo
	}
	for day := pastDays - 3 - 20*r.Float64(); day > 0.2; day -= 4 + 22*r.Float64() {
		another(day)
	}
	return addresses, daysAgo
}

// newest is the address that the link has when its past ends.
func newest(p place, l connection) netip.Addr {
	addresses, _ := pastAddresses(p, l)
	return addresses[len(addresses)-1]
}

func pastMoves(ctx context.Context, d *daemon.Daemon, list []place) error {
	type one struct {
		at     time.Time
		change store.Change
		slow   float64
	}
	now := time.Now().UTC()
	var all []one
	for _, p := range list {
		s, err := d.Store().Site(ctx, p.code)
		if err != nil {
			return err
		}
		for _, l := range p.links {
			if l.static {
				continue // its address was announced when the link was recorded
			}
			link, err := d.Store().Link(ctx, s.ID, l.label)
			if err != nil {
				return err
			}
			r := chance(p.code + l.label + "moves")
			addresses, daysAgo := pastAddresses(p, l)
			var before wan.Pair
			for i, a := range addresses {
				at := now.Add(-time.Duration(daysAgo[i] * 24 * float64(time.Hour)))
				all = append(all, one{at: at, slow: r.Float64(),
					change: store.Change{SiteID: s.ID, LinkID: link.ID, Old: before, New: wan.PairOf(a),
						Source: wan.SourceObserved, Noticed: at, Received: at.Add(time.Duration(2+9*r.Float64()) * time.Millisecond)}})
				before = wan.PairOf(a)
			}
		}
	}
	slices.SortFunc(all, func(a, b one) int { return a.at.Compare(b.at) })
	ids, err := d.Store().MoveIDs(ctx, len(all))
	if err != nil {
		return err
	}
	var g store.Group
	var stages []store.Stages
	for i, o := range all {
		o.change.ID = ids[i]
		g.Changes = append(g.Changes, o.change)
		recorded := o.change.Received.Add(time.Duration((1 + 3*o.slow) * float64(time.Millisecond)))
		stages = append(stages, store.Stages{MoveID: ids[i], Recorded: recorded, Published: recorded.Add(200 * time.Microsecond),
			Answered:  recorded.Add(3 * time.Millisecond),
			Seen:      recorded.Add(time.Duration((900 + 29000*o.slow) * float64(time.Millisecond))),
			Confirmed: recorded.Add(time.Duration((40 + 2500*o.slow*o.slow) * float64(time.Millisecond)))})
	}
	if err := d.Store().Accept(ctx, g); err != nil {
		return err
	}
	return d.Store().Settle(ctx, g, stages)
}

// life is the made-up past of one service.
type life struct {
	spans []ledger.Span
	days  []store.ServiceDay
	today store.ServiceDay
	state store.ServiceState
}

// lived folds made-up results of a service, over so many days, into spans and days. draw says what it gives next, and for how many probes.
func lived(svc site.Service, vantage int64, end time.Time, count int, r *rand.Rand, draw func(*rand.Rand, site.Service) (probe.Outcome,
	int)) life {
	var l life
	var open ledger.Span
	at := end.AddDate(0, 0, -count)
	day, until := ledger.Day{Start: ledger.DayOf(at)}, at
	var outcome probe.Outcome
	left := 0
	for ; at.Before(end); at = at.Add(pastEvery) {
		if left--; left <= 0 {
			outcome, left = draw(r, svc)
		}
		if outcome == probe.Skipped {
			continue // nobody looked
		}
		state := pastState(svc.Expected, outcome)
		for from := later(until, at.Add(-pastEvery)); ; {
			from = day.Account(svc.Expected, state, from, at)
			if !ledger.DayOf(at).After(day.Start) {
				break
			}
			l.days = append(l.days, store.ServiceDay{ServiceID: svc.ID, Day: day})
			day = ledger.Day{Start: day.Start.AddDate(0, 0, 1)}
		}
		until = at
		result := ledger.Result{ServiceID: svc.ID, VantageID: vantage, Outcome: outcome, At: at}
		if outcome.Good() || outcome == probe.Refused {
			result.Latency = time.Duration(9+12*r.ExpFloat64()) * time.Millisecond
			day.Latency.Add(result.Latency)
		}
		next, fresh := ledger.Fold(open, result, ledger.Gap(pastEvery))
		if fresh && open.Count > 0 {
			l.spans = append(l.spans, open)
		}
		open = next
	}
	l.spans = append(l.spans, open)
	l.state = store.ServiceState{ServiceID: svc.ID, State: probe.StateUnknown, Since: until, Proven: end.AddDate(0, 0, -count)}
	l.today = store.ServiceDay{ServiceID: svc.ID, Day: day}
	return l
}

// put writes made-up pasts. Error: that of the database.
func put(ctx context.Context, st *store.Store, lives []life) error {
	var all life
	var today []store.ServiceDay
	var states []store.ServiceState
	for _, l := range lives {
		all.spans, all.days = append(all.spans, l.spans...), append(all.days, l.days...)
		today, states = append(today, l.today), append(states, l.state)
	}
	return errors.Join(st.PutToday(ctx, today), st.PutDays(ctx, all.days), st.PutServiceStates(ctx, states), st.PutSpans(ctx, all.spans))
}

// pastSpans gives every service of the scenario ninety days of made-up results.
func pastSpans(ctx context.Context, d *daemon.Daemon, list []place) error {
	vantage, err := d.Store().OwnVantage(ctx, "server", true)
	if err != nil {
		return err
	}
	end := time.Now().UTC().Add(-2 * pastEvery)
	if err := d.Store().EnsurePartitions(ctx, end); err != nil {
		return err
	}
	var lives []life
	for _, p := range list {
		s, err := d.Store().Site(ctx, p.code)
		if err != nil {
			return err
		}
		services, err := d.Store().Services(ctx, s.ID)
		if err != nil {
			return err
		}
		for _, svc := range services {
			lives = append(lives, lived(svc, vantage, end, pastDays, chance(p.code+svc.Name), pastOutcome))
		}
	}
	return put(ctx, d.Store(), lives)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// pastState is what one made-up outcome amounts to.
func pastState(expected probe.Expected, o probe.Outcome) probe.State {
	rule := probe.Rule{Expected: expected}
	return probe.Verdict(rule, probe.StateUnknown, []probe.View{{Outcome: o, InRow: probe.Confirmations}}, time.Time{})
}

// pastOutcome draws what a service gives next, and for how many probes.
func pastOutcome(r *rand.Rand, svc site.Service) (probe.Outcome, int) {
	if svc.Expected == probe.ExpectClosed || svc.Mute() {
		return probe.Silent, 3000 + r.IntN(6000)
	}
	good := probe.Answered
	if svc.Kind == probe.KindTCP {
		good = probe.Opened
	}
	switch n := r.IntN(100); {
	case n < 62:
		return good, 800 + r.IntN(5000)
	case n < 78:
		return probe.Silent, 1 + r.IntN(60)
	case n < 90:
		return probe.Refused, 1 + r.IntN(40)
	case n < 94:
		return probe.Unroutable, 1 + r.IntN(12)
	}
	return probe.Skipped, 6 + r.IntN(100)
}
