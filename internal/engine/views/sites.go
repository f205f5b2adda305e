package views

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
)

// needRank is the order in which sites need somebody.
var needRank = map[contract.Need]int{contract.NeedNow: 0, contract.NeedSoon: 1, contract.NeedUnknown: 2, contract.NeedNothing: 3}

// siteOrders are how lists of sites are sorted. Those that are alike go by code.
var siteOrders = map[string]func(a, b *contract.SiteSummary) int{
	"":     func(a, b *contract.SiteSummary) int { return needRank[a.Need] - needRank[b.Need] },
	"code": func(_, _ *contract.SiteSummary) int { return 0 },
	"name": func(a, b *contract.SiteSummary) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	},
	"address": func(a, b *contract.SiteSummary) int { return strings.Compare(a.Address, b.Address) },
}

// Summaries lists the sites that a query asks for, and says how many those are in all. Error: site.Flaws.
func (vw *Views) Summaries(ctx context.Context, q contract.SiteQuery) (list []contract.SiteSummary, total int, err error) {
	order, known := siteOrders[strings.TrimPrefix(q.Sort, "need")]
	if !known {
		return nil, 0, site.Flaws{{Field: "sort", Detail: `is need, code, name or address`}}
	}
	if _, known := needRank[q.Need]; q.Need != "" && !known {
		return nil, 0, site.Flaws{{Field: "need", Detail: "is now, soon, unknown or nothing"}}
	}
	sight, words, tag := rooms.SightOf(ctx), site.Words(q.Search), strings.ToLower(q.Tag)
	var found []*contract.SiteSummary
	for _, l := range vw.listed() {
		if !sight.All() && !sight.Sees(l.Tags) || tag != "" && !slices.Contains(l.Tags, tag) || len(words) > 0 && !site.Has(words,
			l.text) ||
			q.Need != "" && l.Need != q.Need {
			continue
		}
		found = append(found, l.SiteSummary)
	}
	slices.SortFunc(found, func(a, b *contract.SiteSummary) int { return cmp.Or(order(a, b), strings.Compare(a.Code, b.Code)) })
	total = len(found)
	found = found[min(q.Offset, total):]
	if q.Limit > 0 {
		found = found[:min(q.Limit, len(found))]
	}
	list = make([]contract.SiteSummary, len(found))
	for i, s := range found {
		list[i] = *s
	}
	return list, total, nil
}

// listing is how all sites were at a time, with what each is searched by. It is not changed.
type listing struct {
	at               time.Time
	events, recorded uint64
	sites            []listedSite
}

type listedSite struct {
	*contract.SiteSummary
	text string
}

// listingFor is how long a listing stands although nobody told of a change: what follows from the time of day alone tells nobody.
const listingFor = 5 * time.Second

// listed is how all sites are now. Who types into the search asks for the same again and again: it is found out anew where something
// has happened since.
func (vw *Views) listed() []listedSite {
	now := vw.Now()
	next := &listing{at: now, events: vw.Events.Position(), recorded: vw.Record.Version()}
	if l := vw.listing.Load(); l != nil && l.events == next.events && l.recorded == next.recorded && now.Sub(l.at).Abs() < listingFor {
		return l.sites
	}
	for _, p := range vw.Record.Sites() {
		next.sites = append(next.sites, listedSite{vw.summary(&p, now), texts(p)})
	}
	vw.listing.Store(next)
	return next.sites
}

// texts is what a site is searched by: code, name, note, tags, addresses, hostnames, and its devices' names and MACs.
func texts(p record.Site) string {
	var b strings.Builder
	add := func(words ...string) {
		for _, w := range words {
			b.WriteString(strings.ToLower(w))
			b.WriteByte('\n')
		}
	}
	add(p.Code, p.Name, p.Note)
	add(p.Tags...)
	for _, l := range p.Links {
		add(l.Addresses().String(), l.Provider)
	}
	for _, h := range p.Hostnames {
		add(string(h.Name))
	}
	for _, d := range p.Devices {
		add(d.Name, d.MAC, d.Address.String())
	}
	return b.String()
}

// summary is a site in a list. What is wrong with it was found out when something changed: reading costs no diagnosis.
func (vw *Views) summary(p *record.Site, now time.Time) *contract.SiteSummary {
	open := vw.Rooms.Faults.Open(p.ID)
	s := &contract.SiteSummary{Site: p.Site, Need: contract.NeedNothing, ServiceCount: len(p.Services), FaultCount: len(open)}
	if l, ok := p.Preferred(); ok {
		s.Link, s.Address = l.Label, l.Addresses().String()
	}
	if len(p.Hostnames) > 0 {
		s.Hostname = string(p.Hostnames[0].Name)
	}
	proven := false
	vw.Prober.Each(p.Services, func(i int, st *seen.Status) {
		svc := &p.Services[i]
		switch {
		case st.View.Outcome == probe.Silent && svc.Mute():
			s.ServiceCount-- // it is neither up nor down
		case !inUse(svc, !st.Proven.IsZero()):
			s.ServiceCount--
			s.AwaitedCount++
		default:
			proven = proven || st.State != probe.StateUnknown
			if probe.AsExpected(svc.ExpectedAt(now), st.State) {
				s.AsExpectedCount++
			}
		}
	})
	if !proven {
		s.Need = contract.NeedUnknown
	}
	for _, f := range open {
		switch {
		case f.Finding.Serious():
			s.Need = contract.NeedNow
		case s.Need != contract.NeedNow:
			s.Need = contract.NeedSoon
		}
	}
	s.Verdict = verdictOf[s.Need]
	return s
}

// verdictOf is what a need amounts to.
var verdictOf = map[contract.Need]diagnose.Verdict{contract.NeedNow: diagnose.Broken, contract.NeedSoon: diagnose.Unsettled,
	contract.NeedUnknown: diagnose.Unsettled, contract.NeedNothing: diagnose.Proven}
