package agent

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/core/wan"
)

// chainEvery is how often the hops on the way out are listed while the address stays the same.
const chainEvery = 30 * time.Minute

// sources are those that are set for the link.
func (r *runner) sources() []source.Source {
	var out []source.Source
	for _, kind := range r.order() {
		switch kind {
		case wan.SourceObserved:
			out = append(out, source.Observed{Ask: r.observedOver})
		case wan.SourceSTUN:
			if servers := r.stunServers(); len(servers) > 0 {
				out = append(out, r.stun(servers))
			}
		case wan.SourceGateway:
			out = append(out, r.gateway)
		case wan.SourceInterface:
			if r.link.Interface != "" {
				out = append(out, source.Interface{Name: r.link.Interface})
			}
		case wan.SourceFixed:
			if len(r.o.Fixed) > 0 {
				var p wan.Pair
				for _, a := range r.o.Fixed {
					p = p.With(a.Is6(), a)
				}
				out = append(out, source.Fixed{Addresses: p})
			}
		}
	}
	return out
}

// observedOver asks the server over one family which address it sees: only so does it see both.
func (r *runner) observedOver(ctx context.Context, six bool) (netip.Addr, error) {
	to := r.to.four
	if six {
		to = r.to.six
	}
	o, err := to.Observed(ctx)
	if err != nil {
		return netip.Addr{}, err
	}
	return netip.ParseAddr(o.Address)
}

// gather asks all sources at once. It waits for those that see the link from outside; what slower ones say is reported later, so that a
// silent router holds nothing up. The router is asked if there is a reason to, and now and then; in between, its last answer counts.
func (r *runner) gather(ctx context.Context, seen netip.Addr, why reason) []wan.Report {
	moved := seen.IsValid() && r.sent.Known() && r.sent.Of(seen.Is6()) != seen
	type said struct {
		kind    wan.Source
		reports []wan.Report
	}
	ask := moved || why != (reason{}) && !why.known || time.Since(r.round) >= maxAnnouncePause
	if ask {
		r.round = time.Now()
	}
	list := r.sources()
	answers := make(chan said, len(list))
	began := time.Now()
	asked, witnesses := 0, 0
	for _, s := range list {
		if !ask && s.Kind() == wan.SourceGateway {
			continue
		}
		asked++
		if s.Kind().SeenFromOutside() {
			witnesses++
		}
		r.side.Go(func() { answers <- said{s.Kind(), s.Learn(ctx)} })
	}
	now := map[wan.Source][]wan.Report{}
	slow := time.NewTimer(slowFor)
	defer slow.Stop()
	waited := false
	for len(now) < asked && !(waited && witnesses == 0) {
		select {
		case a := <-answers:
			now[a.kind] = a.reports
			if a.kind.SeenFromOutside() {
				witnesses--
			}
		case <-slow.C:
			waited = true
		}
	}
	if missing := asked - len(now); missing > 0 {
		r.side.Go(func() {
			r.await(ctx, missing, moved, func() (wan.Source, []wan.Report) { a := <-answers; return a.kind, a.reports })
		})
	}
	for _, p := range now[wan.SourceSTUN] {
		if p.Problem == "" {
			r.beat = p.Addresses
			r.own.Store(&p.Addresses)
			break
		}
	}
	r.side.Go(func() { r.lookOut(ctx, seen, moved) })
	r.mu.Lock()
	defer r.mu.Unlock()
	for kind, reports := range now {
		r.heard[kind] = reports
	}
	var out []wan.Report
	for _, s := range list {
		for _, p := range r.heard[s.Kind()] {
			if !(moved && p.At.Before(began)) { // said of the address before
				out = append(out, p)
			}
		}
	}
	return out
}

// await collects what slow sources say, and has it reported if it differs from what was: after a move, nothing was.
func (r *runner) await(ctx context.Context, missing int, moved bool, next func() (wan.Source, []wan.Report)) {
	changed := moved
	for range missing {
		kind, reports := next()
		r.mu.Lock()
		changed = changed || !sameWords(r.heard[kind], reports)
		r.heard[kind] = reports
		r.mu.Unlock()
	}
	if changed && ctx.Err() == nil {
		r.look(reason{words: "a slow source has answered", known: true})
	}
}

func sameWords(a, b []wan.Report) bool {
	return slices.EqualFunc(a, b, func(x, y wan.Report) bool {
		return x.Via == y.Via && x.Addresses == y.Addresses && x.Problem == y.Problem
	})
}

// lookOut lists the devices on the way out, now and then and after a move.
func (r *runner) lookOut(ctx context.Context, target netip.Addr, moved bool) {
	r.mu.Lock()
	due := moved || time.Since(r.asked) > chainEvery
	if due {
		r.asked = time.Now()
	}
	r.mu.Unlock()
	if !due || r.o.Dial != nil { // a simulated way out has no hops
		return
	}
	server, err := r.way.resolve(ctx, hostOf(r.state.Server))
	if err != nil || len(server) == 0 {
		return
	}
	chain := source.Hops(ctx, server[0].Unmap())
	r.mu.Lock()
	changed := !slices.Equal(chain, r.chain)
	r.chain = chain
	r.mu.Unlock()
	if changed && ctx.Err() == nil {
		r.look(reason{words: "the way out has changed", known: true})
	}
}
