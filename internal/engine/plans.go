package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// runPlans lowers the TTLs of hostnames ahead of an expected change of their link's address, and restores them after it.
func (e *Engine) runPlans(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if err := e.followPlans(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("TTLs do not follow a planned change; trying again", "error", err)
		}
	}
}

func (e *Engine) followPlans(ctx context.Context) error {
	planned := slices.DeleteFunc(e.record.all(), func(p premises) bool {
		return !slices.ContainsFunc(p.links, func(l *site.Link) bool { return !e.expectedChange(*l).IsZero() }) || len(e.retimed(p)) == 0
	})
	if len(planned) == 0 {
		return nil
	}
	done, err := e.editing(ctx)
	if err != nil {
		return err
	}
	defer done()
	var changed []premises
	zones := map[int64]bool{}
	for _, p := range planned {
		p, ok := e.record.site(p.ID) // as it is now that nothing else changes: it may have moved meanwhile
		if !ok {
			continue
		}
		for zone, words := range e.retimed(p) {
			zones[zone] = true
			e.Events.Publish(contract.EventHostnameState, p.Code, "", words)
		}
		if len(e.retimed(p)) > 0 {
			changed = append(changed, p)
		}
	}
	var ids []int64
	for id := range zones {
		ids = append(ids, id)
	}
	var serials map[int64]uint32
	if err := e.store.Together(ctx, func(tx *store.Store) (err error) { serials, err = tx.BumpSerials(ctx, ids); return err }); err != nil {
		return err
	}
	e.record.setSerials(serials)
	return e.republish(changed, allHostnames, serials)
}

// retimed says, by hosted zone, which hostnames of a site were published with another TTL than they should have now.
func (e *Engine) retimed(p premises) map[int64]string {
	var out map[int64]string
	for _, h := range p.hostnames {
		was, ttl := e.names.of(h.ID).ttl, e.ttlOf(p, h)
		if was == 0 || was == ttl || e.record.zone(h.ZoneID).Kind == names.Remote {
			continue
		}
		if out == nil {
			out = map[int64]string{}
		}
		out[h.ZoneID] = fmt.Sprintf("the TTL of %s went from %d to %d s", h.Name, was, ttl)
	}
	return out
}
