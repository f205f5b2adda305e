package vantage

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/speak"
)

// probeAll starts probes as they come due.
func (r *runner) probeAll(ctx context.Context) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for ctx.Err() == nil {
		r.mu.Lock()
		t, wait := r.schedule.next(time.Now())
		weight := int64(0)
		if t != nil { // what it says may be replaced from now on
			weight = int64(min((t.Ports[1]-t.Ports[0]+1)*len(t.Transport.Each()), pace.MaxAtTarget))
		}
		r.mu.Unlock()
		if t == nil {
			timer.Reset(wait)
			select {
			case <-timer.C:
			case <-r.wake:
			case <-ctx.Done():
			}
			continue
		}
		if r.slots.Acquire(ctx, weight) != nil {
			break
		}
		wg.Go(func() {
			defer r.slots.Release(weight)
			r.probe(ctx, t)
		})
	}
	return nil
}

// probe makes one round of a task.
func (r *runner) probe(ctx context.Context, t *task) {
	r.mu.Lock()
	a, deadline, stories := t.Assignment, r.deadline, t.stories
	t.stories = nil
	r.mu.Unlock()
	began := time.Now()
	o, decided, attempts := r.round(ctx, a, deadline)
	took := time.Since(began)
	if ctx.Err() != nil {
		return
	}
	rule := (&task{Assignment: a}).rule() // of what was probed: it may be another by now
	if rule.Meaning(o.Outcome) == probe.NotWanted {
		// Is it us? Results from before this probe began do not count.
		if ailing := r.check(ctx, time.Since(began)); ailing != "" {
			o.Outcome, o.Message = probe.Skipped, "this vantage point is not fit to say: "+ailing
		}
	}
	now := time.Now()
	r.mu.Lock()
	due, other := pace.Next(now, t.interval(), rand.Float64()), false
	if o.Outcome != probe.Skipped && t.same(a) { // or else it says nothing of what is to be probed now
		before := t.view.Outcome
		t.view = rule.Next(t.view, o.Outcome, now)
		other = t.view.InRow == 1 || probe.FailsOtherwise(before, o.Outcome)
		if rule.Meaning(o.Outcome) == probe.NotWanted && !rule.Settled(t.view) {
			due = pace.Confirm(now, t.view.Since, took, t.view.InRow, probe.Confirmations, t.interval())
		}
	}
	fresh := t.view.InRow == 1
	if other && rule.Meaning(o.Outcome) != probe.Nothing {
		t.series = nil // it was about another failure
	}
	if o.Outcome != probe.Skipped {
		o.Series, t.series = t.series, nil
	}
	view := t.view
	r.schedule.done(t, due, now)
	r.rouse()
	r.mu.Unlock()
	r.measure(ctx, t, decided, view, rule, other)
	r.health.saw(a, rule.Meaning(o.Outcome), now)
	if len(stories) == 0 {
		r.spool.add(o, fresh)
		return
	}
	for i, id := range stories {
		o.Task, o.Attempts = id, attempts
		r.spool.add(o, i == len(stories)-1)
	}
}

// measure has the distance of a port measured where that is due: of one that works, to compare with, and of one that fails, first or in
// another way. It goes to the server with the next outcome.
func (r *runner) measure(ctx context.Context, t *task, decided speak.Try, v probe.View, rule probe.Rule, first bool) {
	switch {
	case !decided.Target.IsValid():
	case decided.Outcome.Good() && decided.Transport == probe.TCP:
		r.meter.Works(ctx, decided.Target, time.Now())
	case rule.Expected == probe.ExpectReachable && rule.Meaning(v.Outcome) == probe.NotWanted && first:
		r.meter.Do(func() {
			s := r.meter.Examine(ctx, decided.Transport, decided.Target, time.Now().UTC())
			r.mu.Lock()
			defer r.mu.Unlock()
			if t.view.Since.Equal(v.Since) {
				t.series = &s
			}
		})
	}
}

func (r *runner) round(ctx context.Context, a contract.Assignment, deadline time.Duration) (contract.OutcomeReport, speak.Try,
	[]contract.Attempt) {
	o := contract.OutcomeReport{Service: a.ID, Revision: a.Revision, Target: a.Target, Also: a.Also, Outcome: probe.Skipped,
		At: time.Now().UTC()}
	at, err := netip.ParseAddr(a.Target)
	switch {
	case err != nil:
		o.Message = "the link's public address is not known yet"
		return o, speak.Try{}, nil
	case a.Quarantine != "":
		o.Message = a.Quarantine
		return o, speak.Try{}, nil
	}
	own := make(map[string]bool, len(a.Own))
	for _, door := range a.Own {
		own[door] = true
	}
	key, _ := probe.WireGuardKey(a.ProbeKey)
	also, _ := netip.ParseAddrPort(a.Also)
	out := speak.All(ctx, speak.Service{Request: speak.Request{Kind: a.Kind, Transport: a.Transport,
		Target: netip.AddrPortFrom(at, uint16(a.Ports[0])), Name: a.Hostname,
		Own: func(host string, port uint16) bool { return own[host+":"+strconv.Itoa(int(port))] }, Options: a.Options, ProbeKey: key,
		From: r.o.From, Deadline: deadline},
		Last: uint16(a.Ports[1]), Also: also, Pinned: a.Pinned, Expected: a.Expected})
	o.At, o.Outcome, o.LatencyUS, o.Message, o.Fingerprint = time.Now().UTC(), out.Outcome, out.Latency.Microseconds(),
		out.Deciding.Message, out.Deciding.Fingerprint
	if out.Inside {
		o.Message = speak.Insider
	}
	o.Hung = out.Deciding.Hung
	if out.Deciding.ICMP.Came() {
		o.ICMP = &out.Deciding.ICMP
	}
	return o, out.Deciding, speak.Attempts(out)
}
