package zones

import (
	"context"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
)

// runTTLs lowers the TTLs of hostnames ahead of an expected change of their link's address, and restores them after it.
func (z *Zones) runTTLs(ctx context.Context) {
	tick := rounds.Every(time.Second)
	defer tick.Stop()
	var turns rounds.Turns
	for {
		select {
		case <-tick.C:
			tick.Begun()
		case <-ctx.Done():
			return
		}
		var due []int64
		sites := z.record.SiteIDs()
		turn := turns.Next(len(sites))
		for i, id := range sites {
			if turn(i) && z.early(id) {
				due = append(due, id)
			}
		}
		if len(due) == 0 {
			continue
		}
		if err := z.host.Retime(ctx, due); err != nil && ctx.Err() == nil {
			z.log.Warn("TTLs could not be changed for an expected address change; retrying", "error", err)
		}
	}
}

// early reports whether a site's hostnames have other TTLs than they should, ahead of an expected change or after it.
func (z *Zones) early(siteID int64) bool {
	p, _ := z.record.Site(siteID)
	expects := slices.ContainsFunc(p.Links, func(l *site.Link) bool { return !z.host.ExpectedChange(*l).IsZero() })
	return expects && len(z.Retimed(p)) > 0
}

// Retimed says, by hosted zone, which hostnames of a site were published with another TTL than they should have now.
func (z *Zones) Retimed(p record.Site) map[int64]string {
	var out map[int64]string
	for _, h := range p.Hostnames {
		z.mu.RLock()
		was := z.ttls[h.ID]
		z.mu.RUnlock()
		ttl := z.TTLOf(p, h)
		if was == 0 || was == ttl || z.record.Zone(h.ZoneID).Kind == names.Remote {
			continue
		}
		if out == nil {
			out = map[int64]string{}
		}
		out[h.ZoneID] = fmt.Sprintf("the TTL of %s changed from %d to %d s", h.Name, was, ttl)
	}
	return out
}

func (z *Zones) noteTTLs(ttls map[int64]int) {
	z.mu.Lock()
	defer z.mu.Unlock()
	for id, ttl := range ttls {
		z.ttls[id] = ttl
	}
}
