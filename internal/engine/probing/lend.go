package probing

import (
	"context"
	"net/netip"

	"inkpost.example/inkpost/internal/core/site"
)

// Awaited waits for a round that another server makes, and returns it. ok is false when it is not made there after all.
type Awaited func(ctx context.Context) (r Result, ok bool)

// begun is a round that was begun.
type begun struct {
	service *site.Service // as it is in the record
	byName  bool          // the way by the hostname is tried, too
	await   Awaited       // nil where this server makes it
}

// begin begins a round of a watch: with another server, if the site is in its shard, and may be probed.
func (p *Prober) begin(w *watch, at netip.Addr) begun {
	p.mu.Lock()
	b := begun{service: w.service, byName: !p.Ticks().Before(w.nameDue.Time())}
	p.mu.Unlock()
	where, ok := p.record.Site(b.service.SiteID)
	if l, _ := where.Followed(b.service.LinkID); ok && at.IsValid() && p.Quarantined(l) == "" {
		b.await = p.host.Lend(*b.service, at, b.byName)
	}
	return b
}

// round makes a round, or waits for it where another server makes it; where that one does not, it is made here after all.
func (p *Prober) round(ctx context.Context, b begun, n int64) Result {
	if b.await != nil {
		if r, ok := b.await(ctx); ok {
			r.Service = *b.service
			return r
		}
		if p.slots.Acquire(ctx, n) != nil {
			n = 0 // the attempt ends at once
		}
	}
	defer p.slots.Release(n)
	return p.attempt(ctx, *b.service, b.byName, false)
}

// Borrowed makes a round for the server that writes. ok is false where the record here is another than there.
func (p *Prober) Borrowed(ctx context.Context, serviceID, revision int64, at netip.Addr, byName bool) (r Result, ok bool) {
	s, ok := p.Watched(serviceID)
	where, there := p.record.Site(s.SiteID)
	l, _ := where.Followed(s.LinkID)
	if !ok || !there || s.Revision != revision || where.TargetOf(s, l) != at { // where the site was, somebody else may be by now
		return r, false
	}
	if p.slots.Acquire(ctx, weight(s)) != nil {
		return r, false
	}
	defer p.slots.Release(weight(s))
	r = p.attempt(ctx, s, byName, false)
	return r, r.Address == at && ctx.Err() == nil
}
