package faults

import (
	"context"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
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
			site, provider := b.providerOf(f)
			dark = append(dark, fault.Dark{FaultID: f.ID, Site: site, Provider: provider, Opened: f.Opened})
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

// providerOf returns the code of a fault's site, and the provider of the link that it is about.
func (b *Board) providerOf(f Fault) (code, provider string) {
	p, _ := b.record.Site(f.SiteID)
	label := strings.TrimPrefix(f.Finding.Subject, "link ")
	for l := range p.EachLink() {
		if provider == "" || l.Label == label {
			provider = l.Provider
		}
	}
	return p.Code, provider
}
