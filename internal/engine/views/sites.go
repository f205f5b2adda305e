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
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/record"
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
	now, words := vw.Now(), site.Words(q.Search)
	var found []*contract.SiteSummary
	for _, p := range vw.SitesSeen(ctx) {
		if q.Tag != "" && !slices.Contains(p.Tags, strings.ToLower(q.Tag)) || len(words) > 0 && !site.Has(words, texts(p)) {
			continue
		}
		if s := vw.summary(&p, now); q.Need == "" || s.Need == q.Need {
			found = append(found, s)
		}
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
	vw.Prober.Each(p.Services, func(i int, st *probing.Status) {
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
