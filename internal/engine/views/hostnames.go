package views

import (
	"context"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
)

// Hostnames lists the hostnames that a query asks for, by name, and says how many those are in all. Error: store.Missing of the site.
func (vw *Views) Hostnames(ctx context.Context, q contract.HostnameQuery) (list []contract.Hostname, total int, err error) {
	sites := vw.SitesSeen(ctx)
	if q.Site != "" {
		p, err := vw.SiteSeen(ctx, q.Site)
		if err != nil {
			return nil, 0, err
		}
		sites = []record.Site{p}
	}
	type named struct {
		in record.Site
		h  *site.Hostname
	}
	var found []named
	words := site.Words(q.Search)
	for _, p := range sites {
		for i := range p.Hostnames {
			h := &p.Hostnames[i]
			if q.Zone != "" && string(h.Zone) != strings.ToLower(q.Zone) || len(words) > 0 && !site.Has(words,
				strings.ToLower(strings.Join([]string{string(h.Name), p.Code, p.AnswerOf(*h).String()}, "\n"))) {
				continue
			}
			found = append(found, named{p, h})
		}
	}
	slices.SortFunc(found, func(a, b named) int { return strings.Compare(string(a.h.Name), string(b.h.Name)) })
	total = len(found)
	found = found[min(q.Offset, total):]
	if q.Limit > 0 {
		found = found[:min(q.Limit, len(found))]
	}
	now := vw.Now()
	list = make([]contract.Hostname, len(found))
	for i, f := range found {
		list[i] = vw.hostname(f.in, *f.h, now)
	}
	return list, total, nil
}
