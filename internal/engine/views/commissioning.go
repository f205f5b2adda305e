package views

import (
	"cmp"
	"context"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// InUse reports whether it is a fault that a service is not as expected: it was proven once, or somebody says so.
func (vw *Views) InUse(s site.Service) bool {
	return inUse(&s, false) || inUse(&s, !vw.Prober.Status(s.ID).Proven.IsZero())
}

func inUse(s *site.Service, proven bool) bool {
	return s.InUse || s.Expected == probe.ExpectClosed || proven
}

// Awaited lists the services of a site that are not in use yet.
func (vw *Views) Awaited(p record.Site) (ids []int64) {
	for _, s := range p.Services {
		if !vw.InUse(s) {
			ids = append(ids, s.ID)
		}
	}
	return ids
}

// Commissioning returns the open run of a site, or else the newest one. Errors: store.Missing, that of the database.
func (vw *Views) Commissioning(ctx context.Context, code string) (contract.Commissioning, error) {
	p, err := vw.FindSite(code)
	if err != nil {
		return contract.Commissioning{}, err
	}
	c, ok, err := vw.Rooms.Runs.Of(ctx, p.ID)
	if err == nil && !ok {
		err = store.Missing{Kind: "commissioning of site", Name: p.Code}
	}
	if err != nil {
		return contract.Commissioning{}, err
	}
	return vw.runView(ctx, p, c), nil
}

func (vw *Views) runView(ctx context.Context, p record.Site, c store.Commissioning) contract.Commissioning {
	entries, _ := commission.Look(vw.FactsOf(ctx, p, c), c.Results)
	out := contract.Commissioning{ID: c.ID, Site: p.Code, SiteName: p.Name, Services: []string{}, Began: c.Began, By: c.By, Ended: c.Ended,
		EndedBy: c.EndedBy, Finished: commission.Finished(entries), Entries: entries}
	for _, s := range p.Services {
		if slices.Contains(c.Services, s.ID) {
			out.Services = append(out.Services, s.Name)
		}
	}
	for _, e := range entries {
		if !e.State.Over() {
			out.Open++
		}
	}
	return out
}

// ToCommission lists what is not in use yet, by site: each service, and each link from which nothing was heard and that no service is on.
func (vw *Views) ToCommission(ctx context.Context) []contract.ToCommission {
	out := []contract.ToCommission{}
	open := map[int64]store.Commissioning{}
	for _, c := range vw.Rooms.Runs.Open() {
		open[c.SiteID] = c
	}
	for _, p := range vw.SitesSeen(ctx) {
		run := open[p.ID]
		ids := vw.Awaited(p)
		if len(ids) > 0 {
			look := store.Commissioning{SiteID: p.ID, Began: p.Created, Services: ids}
			if run.ID != 0 {
				look.Began, look.Results = run.Began, run.Results
			}
			entries, _ := commission.Look(vw.FactsOf(ctx, p, look), look.Results)
			for _, s := range p.Services {
				if slices.Contains(ids, s.ID) {
					one := vw.missing(p, s, entries)
					if slices.Contains(run.Services, s.ID) {
						one.Run = run.ID
					}
					one.Since = cmp.Or(run.Began, p.Created)
					out = append(out, one)
				}
			}
		}
		out = append(out, unheard(p)...)
	}
	return out
}

// missing is a service that is not in use, with the first step that it lacks.
func (vw *Views) missing(p record.Site, s site.Service, entries []commission.Entry) contract.ToCommission {
	l, _ := p.Followed(s.LinkID)
	one := contract.ToCommission{Site: p.Code, SiteName: p.Name, Subject: "service " + s.Name}
	for _, e := range entries {
		mine := e.Subject == "service "+s.Name || e.Subject == "device "+s.Device || e.Subject == "link "+l.Label
		if mine && !e.State.Over() && e.State != commission.Later && !e.Optional {
			one.Step, one.Title, one.Words, one.Do = e.Step, e.Title, e.Words, cmp.Or(e.Next, e.Do)
			break
		}
	}
	return one
}

// unheard lists links that wait for their first announcement, and that no service is on.
func unheard(p record.Site) (out []contract.ToCommission) {
	for l := range p.EachLink() {
		used := slices.ContainsFunc(p.Services, func(s site.Service) bool { on, _ := p.Followed(s.LinkID); return on.ID == l.ID })
		if used || l.Mode == site.Static || l.Addresses().Known() || !l.Heard.IsZero() || l.Since != (time.Time{}) {
			continue
		}
		entries, _ := commission.Look(commission.Facts{Site: p.Code, Links: []commission.Link{{Link: l}}}, nil)
		e, _ := commission.Find(entries, commission.OnRecord, "link "+l.Label)
		out = append(out, contract.ToCommission{Site: p.Code, SiteName: p.Name, Subject: "link " + l.Label, Step: e.Step, Title: e.Title,
			Words: e.Words, Do: e.Do, Since: p.Created})
	}
	return out
}
