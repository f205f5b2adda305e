package rooms

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// CommissioningFacts implements commissioning.Host.
func (r *Rooms) CommissioningFacts(ctx context.Context, run store.Commissioning) (commission.Facts, bool) {
	p, ok := r.Record.Site(run.SiteID)
	if !ok {
		return commission.Facts{}, false
	}
	return r.FactsOf(ctx, p, run), true
}

// FactsOf gathers what is known of the services of a run, and of what they stand on. Only of a run that is recorded is the database asked,
// and what it does not say for now is left out: the first page shows what there is to commission, without a query a site.
func (r *Rooms) FactsOf(ctx context.Context, p record.Site, run store.Commissioning) commission.Facts {
	now := r.Now()
	f := commission.Facts{Now: now, Began: run.Began, Site: p.Code}
	paths := map[string]diagnose.Path{}
	for _, one := range r.Faults.Diagnosis(p).Paths {
		paths[one.Service] = one
	}
	links, devices := map[int64]bool{}, map[int64]bool{}
	for _, s := range p.Services {
		if !slices.Contains(run.Services, s.ID) {
			continue
		}
		l, ok := p.Followed(s.LinkID)
		one := r.serviceFacts(p, s, l, now)
		one.Finding = paths[s.Name].Finding
		f.Services = append(f.Services, one)
		if ok && !links[l.ID] {
			links[l.ID] = true
			f.Links = append(f.Links, r.linkFacts(ctx, p, l, run, now))
		}
		devices[s.DeviceID] = true
	}
	for _, d := range p.Devices {
		if devices[d.ID] {
			one := r.deviceFacts(p, d)
			one.Steps = r.Runs.KitSteps(d.Kit)
			f.Devices = append(f.Devices, one)
		}
	}
	if run.ID != 0 && !slices.ContainsFunc(run.Results, func(x commission.Result) bool { return x.Step == commission.Sheet }) {
		f.SheetKept, f.SheetBy = r.sheetKept(ctx, p.ID)
	}
	for _, s := range p.Services {
		if s.ExpectedAt(now) == probe.ExpectClosed || !s.OpenUntil.IsZero() {
			st := r.Prober.Status(s.ID)
			f.Closed = append(f.Closed, commission.Door{Service: s.Name, Port: fmt.Sprintf("%s %s", s.Transport,
				site.Ports(s.ExternalFrom, s.ExternalTo)), Known: st.State != probe.StateUnknown,
				Closed: probe.AsExpected(probe.ExpectClosed, st.State), Until: until(s, now)})
		}
	}
	return f
}

// sheetKept says when the newest version of a site's sheet was kept, and by whom.
func (r *Rooms) sheetKept(ctx context.Context, siteID int64) (at time.Time, by string) {
	bounded, cancel := context.WithTimeout(ctx, factsWait)
	defer cancel()
	list, err := r.Store.Sheets(bounded, siteID)
	if err != nil || len(list) == 0 {
		return at, by
	}
	return list[0].At, list[0].By
}

// until is when a port that is opened for a while has to be closed; zero where that is over.
func until(s site.Service, now time.Time) time.Time {
	if s.OpenUntil.After(now) {
		return s.OpenUntil
	}
	return time.Time{}
}

func (r *Rooms) linkFacts(ctx context.Context, p record.Site, l site.Link, run store.Commissioning, now time.Time) commission.Link {
	ev := r.LinkEvidence(l, now)
	out := commission.Link{Link: ev.Link, Overdue: ev.Overdue}
	if len(ev.Refused) > 0 {
		out.Refused = ev.Refused[0].Reason
	}
	report, _ := r.SiteSide.Report(l.ID)
	out.MachineUp = report.Up
	for _, h := range p.Hostnames {
		if on, ok := p.Followed(h.LinkID); !ok || on.ID != l.ID {
			continue
		}
		want := p.AnswerOf(h)
		one := commission.Hostname{Name: string(h.Name), State: r.Verify.State(p, h, now), Want: want.String()}
		if given, asked := r.Verify.Given(h.ID); asked {
			one.Given = given.String()
		}
		for _, a := range r.Verify.Elsewhere(h) {
			if !a.Authoritative {
				one.Elsewhere = append(one.Elsewhere, commission.Answer{Server: a.Server, Given: a.Given.String(), Right: a.Given == want})
			}
		}
		out.Hostnames = append(out.Hostnames, one)
	}
	if run.ID != 0 && l.Since.After(run.Began) {
		bounded, cancel := context.WithTimeout(ctx, factsWait)
		defer cancel()
		list, _ := r.Store.Moves(bounded, store.MoveFilter{SiteID: p.ID, LinkID: l.ID, Since: run.Began, Limit: 20})
		for _, m := range slices.Backward(list) {
			if m.Old != (wan.Pair{}) {
				out.Moves = append(out.Moves, commission.Move{Old: m.Old.String(), New: m.New.String(), At: m.Noticed,
					Confirmed: m.Confirmed})
			}
		}
	}
	return out
}

// factsWait is how long facts wait for the database.
const factsWait = time.Second

func (r *Rooms) deviceFacts(p record.Site, d site.Device) commission.Device {
	out := commission.Device{Device: d}
	for l := range p.EachLink() {
		if l.Dynamic.Contains(d.Address) {
			out.Range = l.Dynamic.String()
		}
	}
	if seen, ok := r.SiteSide.Device(d.ID); ok {
		out.Looked, out.Present, out.Found, out.HeldBy = seen.At, seen.Present, AddressText(seen.Found), seen.MAC
	}
	return out
}

func (r *Rooms) serviceFacts(p record.Site, s site.Service, l site.Link, now time.Time) commission.Service {
	st := r.Prober.Status(s.ID)
	out := commission.Service{Service: s, OnLink: l.ID, Proven: st.Proven, State: st.State, Outcome: st.View.Outcome, Probed: st.Probed,
		Agent: l.Agent && !r.SiteSide.LastHeard(l).IsZero(), Cards: site.Cards(s, deviceOf(p, s), l, r.LinkEvidence(l, now).NAT)}
	var from []string
	for _, v := range r.SeenBy(s, now) {
		if v.LeftOut == "" {
			from = append(from, v.Name)
		}
	}
	if out.Seen = st.Message; len(from) > 0 && st.View.Outcome.Good() {
		out.Seen = strings.Join([]string{string(st.View.Outcome), "seen from " + strings.Join(from, ", ")}, ", ")
		if st.Message != "" {
			out.Seen += ": " + st.Message
		}
	}
	if st.Shown != nil {
		out.Shown = st.Shown.Fingerprint
		if n := st.Shown.Named; n != nil {
			out.Named = commission.Named{Hostname: n.Hostname, Given: n.Given.String(), Message: n.Message, Good: n.Outcome.Good(),
				At: n.At}
		}
	}
	if seen, ok := r.SiteSide.Device(s.DeviceID); ok {
		for _, port := range seen.Ports {
			if port.Service == s.Name {
				out.Inside, out.Looked = port.State, seen.At
			}
		}
	}
	out.Lists = lists(r, s, deviceOf(p, s), l)
	return out
}

// lists says what the router lists for a service, if it leads where it should.
func lists(r *Rooms, s site.Service, d site.Device, l site.Link) string {
	word, ok := r.SiteSide.Router(l.ID)
	to := word.Ports[s.Name].To
	if !ok || to != netip.AddrPortFrom(d.Address, uint16(s.InternalFrom)) {
		return ""
	}
	return fmt.Sprintf("%s %s goes to %s", s.Transport, site.Ports(s.ExternalFrom, s.ExternalTo), to)
}

func deviceOf(p record.Site, s site.Service) site.Device {
	i := slices.IndexFunc(p.Devices, func(d site.Device) bool { return d.ID == s.DeviceID })
	if i < 0 {
		return site.Device{}
	}
	return p.Devices[i]
}

// Ask implements commissioning.Host.
func (r *Rooms) Ask(siteID int64, services []int64) {
	for _, id := range services {
		r.Prober.Hurry(id, true)
	}
	r.SiteSide.ScanSoon(siteID)
	r.Verify.Ask(siteID)
}
