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

// FollowLinks implements siteside.Host: it brings a site's links in line with what comes through them, and its hostnames with that.
func (e *Engine) FollowLinks(ctx context.Context, siteID int64) error {
	p, ok := e.record.Site(siteID)
	if !ok {
		return nil
	}
	for _, linkID := range e.SiteSide.SilentLinks(p, e.now()) {
		e.prober.ProbeLink(p, linkID)
	}
	if sameFailing(p, e.SiteSide.Failing(p, e.now(), e.prober.ProvenOn)) {
		return nil
	}
	turn, err := e.editing(ctx)
	if err != nil {
		return err
	}
	defer turn.done()
	p, ok = e.record.Site(siteID)
	if !ok {
		return nil
	}
	failing := e.SiteSide.Failing(p, e.now(), e.prober.ProvenOn)
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
	if err := e.store.Together(ctx, func(tx *store.Store) (err error) { serials, err = tx.NoteFailing(ctx, states, zones); return err }); err != nil {
		return err
	}
	e.record.SetLinks(links)
	if after.ID == before.ID {
		e.faults.review(p.ID)
		return nil
	}
	e.record.SetSerials(serials)
	moved, _ := e.record.Site(siteID)
	if err := e.publish([]record.Site{moved}, record.Site.FollowingPreferred, serials); err != nil {
		return err
	}
	now := e.now()
	for _, h := range moved.FollowingPreferred() {
		e.verify.Published(h.ID, now)
	}
	e.Events.Publish(events.LinkReport, p.Code, after.Label, fmt.Sprintf("hostnames of %s follow link %s (%s) instead of %s", p.Code, after.Label, after.Addresses(), before.Label))
	e.vantages.AssignmentsChanged(p.ID)
	e.prober.Moved(moved, after.ID)
	e.verify.Ask(p.ID)
	e.faults.review(p.ID)
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
