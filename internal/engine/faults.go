package engine

import (
	"context"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// faultBoard knows which faults are open, and which sites have to be looked at again.
type faultBoard struct {
	mu    sync.Mutex
	open  map[int64]map[string]diagnose.Finding // site ID, then key
	dirty map[int64]bool
}

func (f *faultBoard) note(siteID int64, finding diagnose.Finding) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open[siteID] == nil {
		f.open[siteID] = map[string]diagnose.Finding{}
	}
	f.open[siteID][finding.Key()] = finding
}

// findings lists what is open at a site.
func (f *faultBoard) findings(siteID int64) []diagnose.Finding {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Collect(maps.Values(f.open[siteID]))
}

// forget drops a fault, and a site that has none left.
func (f *faultBoard) forget(siteID int64, key string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.open[siteID], key)
	if len(f.open[siteID]) == 0 {
		delete(f.open, siteID)
	}
}

// review has a site looked at soon.
func (f *faultBoard) review(siteID int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.dirty == nil {
		f.dirty = map[int64]bool{}
	}
	f.dirty[siteID] = true
}

func (f *faultBoard) take() []int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := make([]int64, 0, len(f.dirty))
	for id := range f.dirty {
		out = append(out, id)
	}
	clear(f.dirty)
	return out
}

func (f *faultBoard) of(siteID int64) map[string]diagnose.Finding {
	f.mu.Lock()
	defer f.mu.Unlock()
	return maps.Clone(f.open[siteID])
}

// runReview opens and closes faults of sites where something changed, and looks at every site now and then: silence is
// no event.
func (e *Engine) runReview(ctx context.Context) {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if n%20 == 0 {
			for _, p := range e.record.all() {
				e.faults.review(p.ID)
			}
		}
		for _, id := range e.faults.take() {
			if err := e.reviewSite(ctx, id); err != nil && ctx.Err() == nil {
				e.log.Warn("faults not written; trying again", "error", err)
				e.faults.review(id)
			}
		}
	}
}

// ReviewNow finds out at once what is wrong with a site, instead of soon.
func (e *Engine) ReviewNow(ctx context.Context, code string) error {
	p, err := e.premises(code)
	if err != nil {
		return err
	}
	return e.reviewSite(ctx, p.ID)
}

func (e *Engine) reviewSite(ctx context.Context, siteID int64) error {
	p, ok := e.record.site(siteID)
	if !ok { // removed, and its faults with it
		e.faults.mu.Lock()
		delete(e.faults.open, siteID)
		e.faults.mu.Unlock()
		return nil
	}
	now := e.now()
	before := e.faults.of(siteID)
	for _, f := range diagnose.Site(e.evidence(p, now)) {
		key := f.Key()
		if was, open := before[key]; open && was.Summary == f.Summary && was.Next == f.Next {
			e.faults.note(siteID, f)
			delete(before, key)
			continue
		}
		opened, err := e.store.OpenFault(ctx, siteID, f, now)
		if err != nil {
			return err
		}
		e.faults.note(siteID, f)
		delete(before, key)
		if opened {
			e.Events.Publish(contract.EventFaultOpened, p.Code, f.Subject, f.Summary)
		}
	}
	for key := range before {
		if err := e.store.CloseFault(ctx, siteID, key, now); err != nil {
			return err
		}
		e.faults.forget(siteID, key)
		e.Events.Publish(contract.EventFaultClosed, p.Code, key, "closed: "+key)
	}
	return nil
}

// evidence gathers what is known of a site now.
func (e *Engine) evidence(p premises, now time.Time) diagnose.Evidence {
	ev := diagnose.Evidence{Now: now, Site: p.Site, Devices: p.devices, Seen: map[string]diagnose.DeviceSeen{}}
	for _, d := range p.devices {
		if s, ok := e.sighting(d.ID); ok {
			seen := diagnose.DeviceSeen{At: s.At, Present: s.Present, Found: s.Found, Ports: map[string]string{}, Hours: s.Hours, MAC: s.MAC}
			for _, port := range s.Ports {
				seen.Ports[port.Service] = port.State
			}
			ev.Seen[d.Name] = seen
		}
	}
	for l := range p.eachLink() {
		ev.Links = append(ev.Links, e.linkEvidence(l, now))
	}
	for _, h := range p.hostnames {
		want, known := p.answerOf(h), e.names.of(h.ID)
		push, _ := e.pushOf(h)
		ev.Hostnames = append(ev.Hostnames, diagnose.HostnameEvidence{Hostname: h, LostIPv6: h.DeviceID != 0 && e.lostIPv6(h.DeviceID), Push: push, Want: want.IPv4, Given: known.given.IPv4, State: e.judge(p, h, now), Behind: e.behind(p, h)})
	}
	for _, s := range p.services {
		st := e.prober.standing(s.ID)
		l, _ := p.followed(s.LinkID)
		expected := s.ExpectedAt(now)
		s.Expected = expected
		one := diagnose.ServiceEvidence{Service: s, OnLink: l.Label, Address: st.address, State: st.state,
			Outcome: st.view.Outcome, InRow: st.view.InRow, Probed: st.probed, Turned: st.turned, Said: st.said, Shut: e.prober.doors.shut(l, e.heard.last(l)), Settling: st.settling}
		for _, v := range e.viewsOf(s, now) {
			one.Views = append(one.Views, diagnose.View{Vantage: v.Vantage, Outcome: v.Outcome, Left: v.Left})
		}
		if st.shown != nil {
			one.Fingerprint = st.shown.fingerprint
			if st.shown.certificate != nil {
				one.Expires = st.shown.certificate.Expires
			}
		}
		ev.Services = append(ev.Services, one)
	}
	return ev
}

func (e *Engine) linkEvidence(l site.Link, now time.Time) diagnose.LinkEvidence {
	l.Heard = e.heard.last(l)
	out := diagnose.LinkEvidence{Link: l, Overdue: l.Agent && wan.Overdue(l.Heard, e.listening, now, e.config.CheckEvery)}
	out.Announced = l.Mode != site.Static && e.announcesEvery(l) > 0
	v := e.standings.view(l.ID)
	if v == nil {
		return out
	}
	if out.Held = v.Held; l.Failing {
		out.Held = "" // told of as that
	}
	if out.Rhythm = time.Duration(v.Rhythm * float64(time.Second)); !l.Agent && wan.OutOfRhythm(l.Heard, e.listening, now, out.Rhythm) {
		out.Overdue = true
	}
	out.NAT = wan.NAT{Verdict: v.NAT, Words: v.Words, Remedies: v.Remedies}
	out.NAT.RouterWAN, _ = netip.ParseAddr(v.Router)
	for _, hop := range v.Chain {
		if a, err := netip.ParseAddr(hop); err == nil {
			out.NAT.Chain = append(out.NAT.Chain, a)
		}
	}
	out.Resolver = v.Resolver
	for _, r := range v.Refused {
		if now.Sub(r.Last) <= refusedFor && !r.Stranger {
			out.Refused = append(out.Refused, diagnose.RefusedEvidence{Reason: r.Reason, From: r.From, Count: r.Count, Last: r.Last})
		}
	}
	return out
}
