package faults

import (
	"context"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/store"
)

// reviewAreas puts the sites together that are dark with others of their provider: one fault of the provider explains theirs. Error: that
// of the database.
func (b *Board) reviewAreas(ctx context.Context) error {
	b.reviewing.Lock()
	defer b.reviewing.Unlock()
	now := b.now()
	var dark []fault.Dark
	open, under := map[string]bool{}, map[int64]int64{}
	for _, f := range b.Open(0) {
		switch {
		case f.SiteID == 0:
			open[fault.ProviderOf(f.Finding.Subject)] = true
		case f.Under != 0:
			under[f.ID] = f.Under
		}
		if f.SiteID != 0 && f.ID != 0 && f.Finding.Cause == "provider-outage" {
			p, _ := b.record.Site(f.SiteID)
			dark = append(dark, fault.Dark{FaultID: f.ID, Site: p.Code, Provider: b.Provider(f.Fault), Opened: f.Opened})
		}
	}
	if len(dark)+len(open)+len(under) == 0 {
		return nil
	}
	outages := fault.Outages(dark, open)
	findings, began := make([]diagnose.Finding, len(outages)), make([]time.Time, len(outages))
	for i, o := range outages {
		findings[i], began[i] = o.Finding, o.Since
	}
	b.tell("", b.settle(0, findings, began, now))
	if err := b.write(ctx, 0); err != nil {
		return err
	}
	explained := map[int64]int64{}
	for _, f := range b.Open(0) {
		if i := slices.IndexFunc(outages, func(o fault.Outage) bool {
			return f.SiteID == 0 &&
				o.Finding.Key() == f.Finding.Key()
		}); i >= 0 {
			for _, id := range outages[i].Under {
				explained[id] = f.ID
			}
		}
	}
	for _, siteID := range b.putUnder(explained) {
		if err := b.write(ctx, siteID); err != nil {
			return err
		}
	}
	return nil
}

// putUnder has faults of sites explained by faults of areas, and no others, and returns the sites where that changed.
func (b *Board) putUnder(explained map[int64]int64) (sites []int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for id, list := range b.faults {
		for i, f := range list {
			if id != 0 && f.open() && f.Under != explained[f.ID] {
				list[i].Under = explained[f.ID]
				sites = append(sites, id)
			}
		}
	}
	return sites
}

// Provider returns the provider of the link that a fault of a site is about, or else that of the site's first link.
func (b *Board) Provider(f store.Fault) (provider string) {
	p, _ := b.record.Site(f.SiteID)
	for l := range p.EachLink() {
		if provider == "" || f.Finding.Subject == "link "+l.Label {
			provider = l.Provider
		}
	}
	return provider
}
