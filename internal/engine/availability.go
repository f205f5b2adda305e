package engine

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// late enters what a vantage point saw while the server was away: it belongs to the history, not to what is so now.
func (b *book) late(r round, vantage int64, s site.Service) {
	b.mu.Lock()
	defer b.mu.Unlock()
	at := seenFrom{s.ID, vantage}
	before := b.newest[at]
	span, fresh := ledger.Fold(before, ledger.Result{ServiceID: s.ID, VantageID: vantage, Outcome: r.outcome, At: r.at, Latency: r.latency}, ledger.Gap(interval(s)))
	if fresh && (b.dirty[at] || b.begun[at]) {
		b.ended = append(b.ended, before)
		b.bound()
	}
	b.newest[at] = span
	b.begun[at] = b.begun[at] || fresh
	b.dirty[at] = true
}

// Availability tells how the services of a site were over each window, or one of them where service names it.
func (e *Engine) Availability(ctx context.Context, code, service string) ([]contract.ServiceAvailability, error) {
	p, err := e.premises(code)
	if err != nil {
		return nil, err
	}
	list := p.services
	if service != "" {
		_, s, err := e.service(code, service)
		if err != nil {
			return nil, err
		}
		list = []site.Service{s}
	}
	ids := make([]int64, len(list))
	for i, s := range list {
		ids[i] = s.ID
	}
	now := e.now()
	windows := ledger.Windows()
	days, err := e.store.Days(ctx, ids, now.Add(-windows[len(windows)-1].Long))
	if err != nil {
		return nil, err
	}
	out := []contract.ServiceAvailability{}
	for _, s := range list {
		all := days[s.ID]
		if d, ok := e.prober.book.today(s.ID); ok { // ahead of what is written
			n := len(all)
			if n > 0 && all[n-1].Start.Equal(d.Start) {
				all = all[:n-1]
			}
			all = append(all, d)
		}
		one := contract.ServiceAvailability{Site: p.Code, Service: s.Name, Expected: s.ExpectedAt(now)}
		for _, w := range windows {
			one.Windows = append(one.Windows, ledger.Over(w, all, now))
		}
		out = append(out, one)
	}
	return out, nil
}

// Cards gives the rules to type into the site's router for a service.
func (e *Engine) Cards(code, name string) ([]site.Card, error) {
	p, s, err := e.service(code, name)
	if err != nil {
		return nil, err
	}
	l, _ := p.followed(s.LinkID)
	var d site.Device
	for _, one := range p.devices {
		if one.ID == s.DeviceID {
			d = one
		}
	}
	return site.Cards(s, d, l, e.linkEvidence(l, e.now()).NAT), nil
}

// states counts the services by state.
func (p *prober) states() map[probe.State]int {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[probe.State]int{probe.StateReachable: 0, probe.StateImpaired: 0, probe.StateUnreachable: 0, probe.StateExposed: 0, probe.StateUnknown: 0}
	for _, w := range p.watches {
		out[w.state]++
	}
	return out
}

// keepLedger makes the partitions of the month to come, and drops those whose time is over.
func (e *Engine) keepLedger(ctx context.Context) error {
	if err := e.store.EnsurePartitions(ctx, e.now()); err != nil {
		return err
	}
	dropped, err := e.store.DropOldPartitions(ctx, e.now())
	if len(dropped) > 0 {
		e.log.Info("old history dropped", "partitions", dropped)
	}
	return err
}
