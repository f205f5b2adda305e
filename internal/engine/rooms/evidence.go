package rooms

import (
	"cmp"
	"iter"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
)

// Evidence gathers what is known of a site now.
func (r *Rooms) Evidence(p record.Site, now time.Time) diagnose.Evidence {
	ev := diagnose.Evidence{Lossy: r.Prober.LossyEverywhere(), Now: now, Began: r.SiteSide.Since(), Site: p.Site, Devices: p.Devices,
		Seen:  make(map[string]diagnose.DeviceReport, len(p.Devices)),
		Links: make([]diagnose.LinkEvidence, 0, len(p.Links)), Hostnames: make([]diagnose.HostnameEvidence, 0, len(p.Hostnames)),
		Services: make([]diagnose.ServiceEvidence, 0, len(p.Services))}
	for _, d := range p.Devices {
		if s, ok := r.SiteSide.Device(d.ID); ok {
			ports := len(s.Ports)
			seen := diagnose.DeviceReport{At: s.At, Present: s.Present, Unsure: s.Unsure, Found: AddressText(s.Found),
				Ports: make(map[string]string, ports), Spoke: make(map[string]bool, ports), Loop: make(map[string]string, ports),
				Hours: s.Hours, MAC: s.MAC, Missed: s.Missed, Renewed: s.Renewed}
			for _, port := range s.Ports {
				seen.Ports[port.Service], seen.Spoke[port.Service], seen.Loop[port.Service] = port.State, port.Spoke, port.Loop
			}
			ev.Seen[d.Name] = seen
		}
	}
	for l := range p.EachLink() {
		one := r.LinkEvidence(l, now)
		if since, dark := r.darkSince(p, l); dark {
			one.DarkWith, one.ProviderSites = r.Faults.Neighbours(p.ID, l.Provider, since)
		}
		ev.Links = append(ev.Links, one)
	}
	for _, h := range p.Hostnames {
		want := p.AnswerOf(h)
		given, _ := r.Verify.Given(h.ID)
		pushed, _ := r.Push.Of(h)
		ev.Hostnames = append(ev.Hostnames, diagnose.HostnameEvidence{Hostname: h,
			LostIPv6: h.DeviceID != 0 && r.SiteSide.LostIPv6(h.DeviceID), Push: pushed, Want: want.IPv4, Given: given.IPv4,
			State: r.Verify.State(p, h, now), Behind: r.Verify.Behind(p, h)})
	}
	for _, s := range p.Services {
		st := r.Prober.Status(s.ID)
		l, _ := p.Followed(s.LinkID)
		expected := s.ExpectedAt(now)
		s.Expected = expected
		one := diagnose.ServiceEvidence{Service: s, OnLink: l.Label, Address: st.Address, State: st.State,
			Outcome: st.View.Outcome, InRow: st.View.InRow, Probed: st.Probed, Turned: st.View.Since, Message: st.Message,
			Quarantine: r.Prober.Quarantined(l), Settling: st.Settling, Ways: waysSeen(st.Ways),
			Lately: st.Lately}
		one.Awaited = !s.InUse && st.Proven.IsZero()
		if st.View.Outcome == probe.Silent {
			one.WorksElsewhere, one.SilentElsewhere = r.Prober.Elsewhere(s, l)
		}
		one.Trial, one.Trying = r.Proofs.Trial(s.ID)
		one.ICMP, one.Hung, one.Series = detail(r.Prober.Results(s.ID), st)
		for _, v := range r.SeenBy(s, now) {
			one.Results = append(one.Results, diagnose.VantageResult{Vantage: v.Name, Outcome: v.Outcome, LeftOut: v.LeftOut})
		}
		if st.Shown != nil {
			one.Fingerprint = st.Shown.Fingerprint
			if st.Shown.Certificate != nil {
				one.Expires, one.CertificateFor = st.Shown.Certificate.Expires, st.Shown.Certificate.Names
				one.Misnamed = st.Shown.Certificate.Misnamed
			}
		}
		ev.Services = append(ev.Services, one)
	}
	return ev
}

// darkSince says since when nothing answers on a link that has services.
func (r *Rooms) darkSince(p record.Site, l site.Link) (since time.Time, dark bool) {
	return darkOf(func(yield func(seen.Status) bool) {
		for _, s := range p.Services {
			on, _ := p.Followed(s.LinkID)
			if on.ID == l.ID && s.Expected == probe.ExpectReachable && !s.Mute() && !yield(r.Prober.Status(s.ID)) {
				return
			}
		}
	})
}

// darkOf says since when nothing of a link answers. A service that answered before that and was not probed again says nothing.
func darkOf(services iter.Seq[seen.Status]) (since time.Time, dark bool) {
	var answered time.Time
	for st := range services {
		if st.View.Outcome.Good() && st.Probed.After(answered) {
			answered = st.Probed
		}
		if st.State == probe.StateUnreachable && (!dark || st.View.Since.Before(since)) {
			since, dark = st.View.Since, true
		}
	}
	return since, dark && !answered.After(since)
}

// detail picks, of what the vantage points saw of a failing service, the message that belongs to its outcome, and the newest measurement
// that says how far packets got.
func detail(list []seen.Result, st seen.Status) (m probe.ICMP, hung bool, series *probe.Series) {
	for _, v := range list {
		if v.Outcome != st.View.Outcome || v.LeftOut != "" {
			continue
		}
		if !m.Came() {
			m = v.ICMP
		}
		hung = hung || v.Hung
		if v.Series != nil && (series == nil || series.Distance == probe.DistanceUnknown ||
			v.Series.Distance != probe.DistanceUnknown && v.Series.At.After(series.At)) {
			series = v.Series
		}
	}
	return m, hung, series
}

func waysSeen(list []seen.Way) (out []diagnose.Way) {
	for _, w := range list {
		one := diagnose.Way{Reach: w.Reach, Outcome: w.Outcome}
		if w.Target.IsValid() {
			one.Target = w.Target.String()
		}
		out = append(out, one)
	}
	return out
}

// Seen is what a vantage point last saw of a service. LeftOut says why it does not count.
type Seen struct {
	Name string
	seen.Result
}

// SeenBy lists what each vantage point last saw of a service, by name.
func (r *Rooms) SeenBy(s site.Service, now time.Time) []Seen {
	var out []Seen
	unfit := r.Prober.Unfit()
	for _, v := range r.Prober.Results(s.ID) {
		one := Seen{Name: r.Vantages.Name(v.Vantage), Result: v}
		one.LeftOut = cmp.Or(v.LeftOut, unfit[v.Vantage])
		if one.LeftOut == "" && now.Sub(v.At) > s.RuleAt(now).Stale {
			one.LeftOut = "it is too old"
		}
		if one.Name != "" {
			out = append(out, one)
		}
	}
	slices.SortFunc(out, func(a, b Seen) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// LinkEvidence gathers what is known of a link now.
func (r *Rooms) LinkEvidence(l site.Link, now time.Time) diagnose.LinkEvidence {
	l.Heard = r.SiteSide.LastHeard(l)
	out := diagnose.LinkEvidence{Link: l, Overdue: l.Agent && wan.Overdue(l.Heard, r.SiteSide.Since(), now, r.CheckEvery)}
	if l.Mode != site.Static {
		out.Every = r.SiteSide.AnnouncesEvery(l)
		out.Announced = out.Every > 0
	}
	report, known := r.SiteSide.Report(l.ID)
	if !known {
		return out
	}
	out.Word, _ = r.SiteSide.Router(l.ID)
	out.Reported, out.NAT, out.Resolver, out.Rhythm = report.Reported, report.NAT, report.Resolver, report.Rhythm
	// A public address that the router gave before the link moved is the one it had; one of the LAN before it does not move with the link.
	behind := report.NAT.Verdict == wan.NATDouble
	for _, one := range report.Sources {
		if one.Source == wan.SourceGateway && one.Problem == "" && (behind || !one.At.Before(l.Since)) {
			out.Gateway = one.Addresses.IPv4
		}
	}
	if out.Held = report.Held; l.Failing {
		out.Held = "" // told of as that
	}
	if !l.Agent && wan.OutOfRhythm(l.Heard, r.SiteSide.Since(), now, out.Rhythm) {
		out.Overdue = true
	}
	for _, one := range siteside.Refusals(report, now) {
		if !one.Stranger {
			out.Refused = append(out.Refused, diagnose.RefusedEvidence{Reason: one.Reason, From: AddressText(one.From),
				Count: one.Count, Last: one.Last})
		}
	}
	return out
}
