package engine

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
)

// faultBoard knows which faults are open, and which sites have to be looked at again. What it shows does not wait for the database: a
// fault is open from when it was seen, and is written when that can be done.
type faultBoard struct {
	mu    sync.Mutex
	open  map[int64]map[string]openFault // site ID, then key
	shut  map[int64]map[string]time.Time // likewise: closed, and not written yet
	dirty map[int64]bool
}

// openFault is a fault that is open. ID is 0, and written "", until it is in the database.
type openFault struct {
	id      int64
	opened  time.Time
	finding diagnose.Finding
	written string // what of it the database has
}

// FaultOf is a fault of a site.
type FaultOf struct {
	SiteID int64
	Key    string
}

// Unwritten gives when each fault was first seen that the database does not have: it did not answer then.
func (e *Engine) Unwritten() map[FaultOf]time.Time {
	e.faults.mu.Lock()
	defer e.faults.mu.Unlock()
	out := map[FaultOf]time.Time{}
	for id, list := range e.faults.open {
		for key, o := range list {
			if o.id == 0 {
				out[FaultOf{id, key}] = o.opened
			}
		}
	}
	return out
}

// told is what of a finding is written anew when it differs: times pass in its evidence.
func told(f diagnose.Finding) string { return f.Summary + "\n" + f.Next }

func (f *faultBoard) put(siteID int64, o openFault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open[siteID] == nil {
		f.open[siteID] = map[string]openFault{}
	}
	f.open[siteID][o.finding.Key()] = o
}

// findings lists what is open at a site.
func (f *faultBoard) findings(siteID int64) []diagnose.Finding {
	var out []diagnose.Finding
	for _, o := range f.of(siteID) {
		out = append(out, o.finding)
	}
	return out
}

// close takes a fault off the board, and keeps when until that is written.
func (f *faultBoard) close(siteID int64, key string, now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open[siteID][key].id != 0 {
		if f.shut == nil {
			f.shut = map[int64]map[string]time.Time{}
		}
		if f.shut[siteID] == nil {
			f.shut[siteID] = map[string]time.Time{}
		}
		f.shut[siteID][key] = now
	}
	delete(f.open[siteID], key)
	if len(f.open[siteID]) == 0 {
		delete(f.open, siteID)
	}
}

// unwritten gives what the database does not have yet of a site's faults.
func (f *faultBoard) unwritten(siteID int64) (open []openFault, shut map[string]time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, o := range f.open[siteID] {
		if o.written != told(o.finding) {
			open = append(open, o)
		}
	}
	return open, maps.Clone(f.shut[siteID])
}

// wrote notes that the database has a fault, or that it is closed.
func (f *faultBoard) wrote(siteID int64, key string, id int64, what string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if o, there := f.open[siteID][key]; there && what != "" {
		o.id, o.written = id, what
		f.open[siteID][key] = o
	}
	if what == "" {
		delete(f.shut[siteID], key)
		if len(f.shut[siteID]) == 0 {
			delete(f.shut, siteID)
		}
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

func (f *faultBoard) of(siteID int64) map[string]openFault {
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
			for _, p := range e.record.Sites() {
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
	p, ok := e.record.Site(siteID)
	if !ok { // removed, and its faults with it
		e.faults.mu.Lock()
		delete(e.faults.open, siteID)
		delete(e.faults.shut, siteID)
		e.faults.mu.Unlock()
		return nil
	}
	now := e.now()
	before := e.faults.of(siteID)
	for _, f := range diagnose.Site(e.evidence(p, now)) {
		was, open := before[f.Key()]
		delete(before, f.Key())
		if !open {
			was = openFault{opened: now}
			if at, seen := e.config.Seen[FaultOf{siteID, f.Key()}]; seen && now.Sub(at) < seenFor {
				was.opened = at
			}
			e.Events.Publish(events.FaultOpened, p.Code, f.Subject, f.Summary)
		}
		was.finding = f
		e.faults.put(siteID, was)
	}
	for key := range before {
		e.faults.close(siteID, key, now)
		e.Events.Publish(events.FaultClosed, p.Code, key, "closed: "+key)
	}
	return e.writeFaults(ctx, siteID)
}

// writeFaults brings the database in line with the board.
func (e *Engine) writeFaults(ctx context.Context, siteID int64) error {
	open, shut := e.faults.unwritten(siteID)
	if len(open)+len(shut) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, faultLimit)
	defer cancel()
	for key, at := range shut { // first: the same may have been opened again since
		if err := e.store.CloseFault(ctx, siteID, key, at); err != nil {
			return err
		}
		e.faults.wrote(siteID, key, 0, "")
	}
	for _, o := range open {
		id, err := e.store.OpenFault(ctx, siteID, o.finding, o.opened)
		if err != nil {
			return err
		}
		e.faults.wrote(siteID, o.finding.Key(), id, told(o.finding))
	}
	return nil
}

// seenFor is how long a fault that an engine before this one saw keeps the time at which it did.
const seenFor = time.Hour

// faultLimit is how long the review of sites waits for the database.
const faultLimit = 2 * time.Second

// openFaults lists what is open, of one site or of all where siteID is 0, the newest first.
func (e *Engine) openFaults(siteID int64) []contract.Fault {
	e.faults.mu.Lock()
	defer e.faults.mu.Unlock()
	out := []contract.Fault{}
	for id, list := range e.faults.open {
		p, ok := e.record.Site(id)
		if !ok || siteID != 0 && id != siteID {
			continue
		}
		for _, o := range list {
			out = append(out, contract.Fault{ID: o.id, Site: p.Code, SiteName: p.Name, Serious: o.finding.Serious(), Opened: o.opened, Finding: o.finding})
		}
	}
	slices.SortFunc(out, func(a, b contract.Fault) int {
		return cmp.Or(b.Opened.Compare(a.Opened), cmp.Compare(b.ID, a.ID), cmp.Compare(a.Site+a.Finding.Key(), b.Site+b.Finding.Key()))
	})
	return out
}

// evidence gathers what is known of a site now.
func (e *Engine) evidence(p record.Site, now time.Time) diagnose.Evidence {
	ev := diagnose.Evidence{Now: now, Site: p.Site, Devices: p.Devices, Seen: map[string]diagnose.DeviceSeen{}}
	for _, d := range p.Devices {
		if s, ok := e.SiteSide.Device(d.ID); ok {
			seen := diagnose.DeviceSeen{At: s.At, Present: s.Present, Found: addressText(s.Found), Ports: map[string]string{}, Hours: s.Hours, MAC: s.MAC}
			for _, port := range s.Ports {
				seen.Ports[port.Service] = port.State
			}
			ev.Seen[d.Name] = seen
		}
	}
	for l := range p.EachLink() {
		ev.Links = append(ev.Links, e.linkEvidence(l, now))
	}
	for _, h := range p.Hostnames {
		want := p.AnswerOf(h)
		given, _ := e.verify.Given(h.ID)
		pushed, _ := e.push.Of(h)
		ev.Hostnames = append(ev.Hostnames, diagnose.HostnameEvidence{Hostname: h, LostIPv6: h.DeviceID != 0 && e.SiteSide.LostIPv6(h.DeviceID), Push: pushed, Want: want.IPv4, Given: given.IPv4, State: e.verify.State(p, h, now), Behind: e.verify.Behind(p, h)})
	}
	for _, s := range p.Services {
		st := e.prober.Status(s.ID)
		l, _ := p.Followed(s.LinkID)
		expected := s.ExpectedAt(now)
		s.Expected = expected
		one := diagnose.ServiceEvidence{Service: s, OnLink: l.Label, Address: st.Address, State: st.State,
			Outcome: st.View.Outcome, InRow: st.View.InRow, Probed: st.Probed, Turned: st.Turned, Said: st.Said, Shut: e.prober.Quarantined(l), Settling: st.Settling, Ways: waysSeen(st.Ways)}
		for _, v := range e.viewsOf(s, now) {
			one.Views = append(one.Views, diagnose.View{Vantage: v.Vantage, Outcome: v.Outcome, Left: v.Left})
		}
		if st.Shown != nil {
			one.Fingerprint = st.Shown.Fingerprint
			if st.Shown.Certificate != nil {
				one.Expires = st.Shown.Certificate.Expires
			}
		}
		ev.Services = append(ev.Services, one)
	}
	return ev
}

func waysSeen(list []probing.Way) (out []diagnose.Way) {
	for _, w := range waysView(list) {
		out = append(out, diagnose.Way{Reach: w.Way, Target: w.Target, Outcome: w.Outcome})
	}
	return out
}

func (e *Engine) linkEvidence(l site.Link, now time.Time) diagnose.LinkEvidence {
	l.Heard = e.SiteSide.LastHeard(l)
	out := diagnose.LinkEvidence{Link: l, Overdue: l.Agent && wan.Overdue(l.Heard, e.listening, now, e.config.CheckEvery)}
	out.Announced = l.Mode != site.Static && e.SiteSide.AnnouncesEvery(l) > 0
	r, known := e.SiteSide.Report(l.ID)
	if !known {
		return out
	}
	out.Reported, out.NAT, out.Resolver, out.Rhythm = r.Reported, r.NAT, r.Resolver, r.Rhythm
	if out.Held = r.Held; l.Failing {
		out.Held = "" // told of as that
	}
	if !l.Agent && wan.OutOfRhythm(l.Heard, e.listening, now, out.Rhythm) {
		out.Overdue = true
	}
	for _, one := range siteside.Refusals(r, now) {
		if !one.Stranger {
			out.Refused = append(out.Refused, diagnose.RefusedEvidence{Reason: one.Reason, From: addressText(one.From), Count: one.Count, Last: one.Last})
		}
	}
	return out
}
