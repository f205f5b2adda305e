package engine

import (
	"context"
	"fmt"
	"slices"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// FollowLinks implements siteside.Host: it marks the site's links that are down, and makes its hostnames follow.
func (e *Engine) FollowLinks(ctx context.Context, siteID int64) error {
	p, ok := e.rooms.Record.Site(siteID)
	if !ok {
		return nil
	}
	for _, linkID := range e.rooms.SiteSide.SilentLinks(p, e.rooms.Now()) {
		e.rooms.Prober.ProbeLink(p, linkID)
	}
	if sameFailing(p, e.rooms.SiteSide.Failing(p, e.rooms.Now(), e.rooms.Prober.ProvenOn)) {
		return nil
	}
	turn, err := e.Begin(ctx)
	if err != nil {
		return err
	}
	defer turn.Done()
	p, ok = e.rooms.Record.Site(siteID)
	if !ok {
		return nil
	}
	failing := e.rooms.SiteSide.Failing(p, e.rooms.Now(), e.rooms.Prober.ProvenOn)
	before, _ := p.Preferred()
	links, states := make([]site.Link, 0, len(p.Links)), make(map[int64]bool, len(p.Links))
	for l := range p.EachLink() {
		l.Failing, states[l.ID] = failing[l.ID], failing[l.ID]
		links = append(links, l)
	}
	after, _ := site.Preferred(slices.Values(links))
	var zones []int64
	if after.ID != before.ID {
		zones = p.ZoneIDs()
	}
	var serials map[int64]uint32
	if err := e.rooms.Store.Together(ctx, func(tx *store.Store) (err error) {
		serials,
			err = tx.NoteFailing(ctx, states, zones)
		return err
	}); err != nil {
		return err
	}
	e.rooms.Record.SetLinks(links)
	e.rooms.Marks.Edited(record.Touched{Sites: []int64{p.ID}, Zones: zones})
	if after.ID == before.ID {
		e.Review(p.ID)
		return nil
	}
	e.rooms.Record.SetSerials(serials)
	moved, _ := e.rooms.Record.Site(siteID)
	if err := e.Publish([]record.Site{moved}, record.Site.FollowingPreferred, serials); err != nil {
		return err
	}
	now := e.rooms.Now()
	for _, h := range moved.FollowingPreferred() {
		e.rooms.Verify.Published(h.ID, now)
	}
	e.rooms.Events.Publish(events.LinkReport, p.Code, after.Label,
		fmt.Sprintf("hostnames of %s follow link %s (%s) instead of %s", p.Code, after.Label, after.Addresses(), before.Label))
	e.rooms.Vantages.AssignmentsChanged(p.ID)
	e.rooms.Prober.Moved(moved, after.ID)
	e.rooms.Verify.Ask(p.ID)
	e.Review(p.ID)
	return nil
}

func sameFailing(p record.Site, failing map[int64]bool) bool {
	for l := range p.EachLink() {
		if l.Failing != failing[l.ID] {
			return false
		}
	}
	return true
}
