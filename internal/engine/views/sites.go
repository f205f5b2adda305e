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
	"inkpost.example/inkpost/internal/engine/record"
)

// needRank is the order in which sites need somebody.
var needRank = map[contract.Need]int{contract.NeedNow: 0, contract.NeedSoon: 1, contract.NeedUnknown: 2, contract.NeedNothing: 3}

// siteOrders are how lists of sites are sorted. Those that are alike go by code.
var siteOrders = map[string]func(a, b contract.SiteSummary) int{
	"":     func(a, b contract.SiteSummary) int { return needRank[a.Need] - needRank[b.Need] },
	"code": func(_, _ contract.SiteSummary) int { return 0 },
	"name": func(a, b contract.SiteSummary) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	},
	"address": func(a, b contract.SiteSummary) int { return strings.Compare(a.Address, b.Address) },
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
	list = []contract.SiteSummary{}
	for _, p := range vw.SitesSeen(ctx) {
		if q.Tag != "" && !slices.Contains(p.Tags, strings.ToLower(q.Tag)) || !site.Has(words, texts(p)) {
			continue
		}
		if s := vw.summary(p, now); q.Need == "" || s.Need == q.Need {
			list = append(list, s)
		}
	}
	slices.SortFunc(list, func(a, b contract.SiteSummary) int { return cmp.Or(order(a, b), strings.Compare(a.Code, b.Code)) })
	total = len(list)
	list = list[min(q.Offset, total):]
	if q.Limit > 0 {
		list = list[:min(q.Limit, len(list))]
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
func (vw *Views) summary(p record.Site, now time.Time) contract.SiteSummary {
	open := vw.Rooms.Faults.Open(p.ID)
	s := contract.SiteSummary{Site: p.Site, Need: contract.NeedNothing, ServiceCount: len(p.Services), FaultCount: len(open)}
	if l, ok := p.Preferred(); ok {
		s.Link, s.Address = l.Label, l.Addresses().String()
	}
	if len(p.Hostnames) > 0 {
		s.Hostname = string(p.Hostnames[0].Name)
	}
	proven := false
	for _, svc := range p.Services {
		st := vw.Prober.Status(svc.ID)
		if svc.Mute() && st.View.Outcome == probe.Silent {
			s.ServiceCount-- // it is neither up nor down
			continue
		}
		if !vw.InUse(svc) {
			s.ServiceCount--
			s.AwaitedCount++
			continue
		}
		proven = proven || st.State != probe.StateUnknown
		if probe.AsExpected(svc.ExpectedAt(now), st.State) {
			s.AsExpectedCount++
		}
	}
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
	s.Verdict = map[contract.Need]diagnose.Verdict{contract.NeedNow: diagnose.Broken, contract.NeedSoon: diagnose.Unsettled,
		contract.NeedUnknown: diagnose.Unsettled, contract.NeedNothing: diagnose.Proven}[s.Need]
	return s
}
