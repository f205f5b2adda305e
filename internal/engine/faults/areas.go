package faults

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/store"
)

// reviewAreas puts the sites together that are dark with others of their provider: one fault of the provider explains theirs. A vantage
// point that is blind is a fault of its own, and so is a certificate of the console that cannot be renewed. Error: that of the database.
func (b *Board) reviewAreas(ctx context.Context) error {
	b.reviewing.Lock()
	defer b.reviewing.Unlock()
	now := b.now()
	sites, told, explaining := b.outages()
	own := append(fault.Blinds(b.host.Blind(now)), fault.Unrenewed(b.host.Unrenewed())...)
	if len(sites) == 0 && len(told) == 0 && len(own) == 0 && !explaining {
		return nil
	}
	dark, open := make([]fault.Dark, len(sites)), map[string]bool{}
	for i, f := range sites {
		p, _ := b.record.Site(f.SiteID)
		dark[i] = fault.Dark{FaultID: f.ID, Site: p.Code, Provider: b.Provider(f), Opened: f.Opened}
	}
	for name := range told {
		open[name] = true
	}
	outages := fault.Outages(dark, open)
	findings, began := make([]diagnose.Finding, len(outages)), make([]time.Time, len(outages))
	for i, o := range outages {
		findings[i], began[i] = o.Finding, o.Since
	}
	for _, f := range own {
		findings, began = append(findings, f), append(began, now)
	}
	b.tell("", b.settle(0, findings, began, now))
	if err := b.write(ctx, 0); err != nil {
		return err
	}
	_, told, _ = b.outages() // those that have just been written have their IDs
	explained := map[int64]int64{}
	for _, o := range outages {
		for _, id := range o.Under {
			explained[id] = told[o.Provider]
		}
	}
	for _, siteID := range b.putUnder(explained) {
		if err := b.write(ctx, siteID); err != nil {
			return err
		}
	}
	return nil
}

// outages returns the open faults of sites that are dark with others, the open faults of providers by name, and whether a fault of a
// provider explains any of a site.
func (b *Board) outages() (dark []store.Fault, told map[string]int64, explaining bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	told = map[string]int64{}
	for id, list := range b.faults {
		for _, f := range list {
			switch {
			case !f.open():
			case id == 0:
				told[fault.ProviderOf(f.Finding.Subject)] = f.ID
			default:
				explaining = explaining || f.Under != 0
				if f.ID != 0 && f.Finding.Cause == "provider-outage" {
					dark = append(dark, f.Fault)
				}
			}
		}
	}
	return dark, told, explaining
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
