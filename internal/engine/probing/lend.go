package probing

import (
	"context"
	"net/netip"

	"inkpost.example/inkpost/internal/engine/probing/result"
)

// Awaited waits for a round that another server makes, and returns it. ok is false when it is not made there after all.
type Awaited func(ctx context.Context) (r result.Round, ok bool)

// Borrowed makes a round for the server that writes. ok is false where the record here is another than there.
func (p *Prober) Borrowed(ctx context.Context, serviceID, revision int64, at netip.Addr, byName bool) (r result.Round, ok bool) {
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
