package probing

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/probing/workers"
	"inkpost.example/inkpost/internal/wire/connect"
	"inkpost.example/inkpost/internal/wire/speak"
)

// round is one round of a watch that has come due.
type round struct {
	prober  *Prober
	w       *watch
	service *site.Service // as it is in the record
	at      netip.Addr    // its target; busy there with n attempts
	n       int64
	byName  bool    // the way by the hostname is tried, too
	await   Awaited // nil where this server makes it

	poller  *connect.Poller // makes bare ones; nil where there is none
	attempt connect.Attempt
	result  result.Round
	request speak.Service
}

// begin begins a round of a watch: with another server, if the site is in its shard, and may be probed.
func (p *Prober) begin(r *round) {
	where, ok := p.record.Site(r.service.SiteID)
	if l, _ := where.Followed(r.service.LinkID); ok && r.at.IsValid() && p.Quarantined(l) == "" {
		r.await = p.host.Lend(*r.service, r.at, r.byName)
	}
}

// cancel ends a bare round, also one that has not begun yet.
func (r *round) cancel() {
	if r.poller != nil {
		r.poller.Cancel(&r.attempt)
	}
}

// bare reports whether a round is one connection that nothing is said on.
func (r *round) bare() bool {
	s := r.service
	return r.poller != nil && r.await == nil && !r.byName && s.Kind == probe.KindTCP && s.Transport == probe.TCP && !s.Pinholed() &&
		r.n == 1
}

// startAll has bare rounds begin, one after the other: none of them waits for the network.
func startAll(ctx context.Context, crew *workers.Crew, list []*round) {
	if len(list) > 0 {
		crew.Do(func() {
			for _, r := range list {
				r.prober.start(ctx, r)
			}
		})
	}
}

// start begins a bare round.
func (p *Prober) start(ctx context.Context, r *round) {
	where, l, result, ok := p.aim(*r.service)
	if !ok {
		p.slots.Release(r.n)
		p.finish(ctx, r, result)
		return
	}
	r.result, r.request = result, p.request(*r.service, where, l, result)
	r.attempt.Target, r.attempt.Done = r.request.Target, func(tried connect.Tried) {
		p.slots.Release(r.n)
		r.result.Took = tried.Took
		r.result.Conclude(r.request.Concluded(tried), p.Now())
		p.finish(ctx, r, r.result)
	}
	r.poller.Start(&r.attempt)
}

// probe makes a round, or waits for it where another server makes it; where that one does not, it is made here after all. n slots are
// taken unless it is awaited.
func (p *Prober) probe(ctx context.Context, r *round) {
	one, cancel := context.WithCancel(ctx)
	p.mu.Lock()
	r.w.cancel = cancel
	p.mu.Unlock()
	defer cancel()
	p.finish(ctx, r, p.made(one, r))
}

func (p *Prober) made(ctx context.Context, r *round) result.Round {
	n := r.n
	if r.await != nil {
		if result, ok := r.await(ctx); ok {
			result.Service = *r.service
			return result
		}
		if p.slots.Acquire(ctx, n) != nil {
			n = 0 // the attempt ends at once
		}
	}
	defer p.slots.Release(n)
	return p.attempt(ctx, *r.service, r.byName, false)
}

// finish takes in what came of a round, and puts its watch back into the queue.
func (p *Prober) finish(ctx context.Context, r *round, result result.Round) {
	w, confirm := r.w, time.Time{}
	if ctx.Err() == nil {
		confirm = p.take(w, p.Vantage, result)
	}
	now, wall := p.Ticks(), p.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	if r.at.IsValid() {
		if p.busy[r.at] -= int(r.n); p.busy[r.at] <= 0 { // as many as were counted: the range may be another by now
			delete(p.busy, r.at)
		}
	}
	if p.watches[r.service.ID] != w {
		return // removed meanwhile
	}
	w.cancel = nil
	if result.Named != nil {
		w.nameDue = seen.At(now.Add(pace.ByName(interval(*w.service))))
	}
	due := now.Add(max(0, confirm.Sub(wall)))
	if confirm.IsZero() {
		due = pace.Next(now, interval(*w.service), rand.Float64())
	}
	if w.again {
		due, w.again = now, false
	}
	w.due = seen.At(due)
	p.queue.Add(w)
	if due.Before(p.looks) {
		p.rouse()
	}
}
