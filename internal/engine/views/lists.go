package views

import (
	"context"
	"crypto/ecdh"
	"encoding/base64"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/store"
)

// Devices lists the devices of a site.
func (vw *Views) Devices(code string) ([]site.Device, error) {
	p, err := vw.FindSite(code)
	return append([]site.Device{}, p.Devices...), err
}

// Device returns one device.
func (vw *Views) Device(code, name string) (site.Device, error) {
	_, d, err := vw.FindDevice(code, name)
	return d, err
}

// Links lists the links of a site as they stand now.
func (vw *Views) Links(code string) ([]contract.Link, error) {
	p, err := vw.FindSite(code)
	out := []contract.Link{}
	for l := range p.EachLink() {
		out = append(out, vw.linkView(l, vw.Now()))
	}
	return out, err
}

// Link returns one link as it stands now.
func (vw *Views) Link(code, label string) (contract.Link, error) {
	_, l, err := vw.FindLink(code, label)
	if err != nil {
		return contract.Link{}, err
	}
	return vw.linkView(l, vw.Now()), nil
}

// Services lists the services of a site as they stand now.
func (vw *Views) Services(code string) ([]contract.Service, error) {
	p, err := vw.FindSite(code)
	out := []contract.Service{}
	for _, s := range p.Services {
		out = append(out, vw.serviceNow(s))
	}
	return out, err
}

// Service returns one service as it stands now.
func (vw *Views) Service(code, name string) (contract.Service, error) {
	_, s, err := vw.FindService(code, name)
	if err != nil {
		return contract.Service{}, err
	}
	return vw.serviceNow(s), nil
}

// ZoneRecords lists the records that people put into a zone beside hostnames and aliases.
func (vw *Views) ZoneRecords(apex string) ([]contract.ZoneRecord, error) {
	z, err := vw.Zone(apex)
	if err != nil {
		return nil, err
	}
	out := []contract.ZoneRecord{}
	for _, r := range vw.Record.RecordsOf(z.ID) {
		out = append(out, contract.ZoneRecord{ID: r.ID, Record: r.Record()})
	}
	return out, nil
}

// SigningKeys lists the TSIG keys, without their secrets.
func (vw *Views) SigningKeys(ctx context.Context) ([]contract.SigningKey, error) {
	list, err := vw.Store.SigningKeys(ctx)
	out := make([]contract.SigningKey, 0, len(list))
	for _, k := range list {
		out = append(out, contract.SigningKey{Name: k.Name, Algorithm: k.Algorithm, Site: k.Site, Created: k.Created.Time,
			MayAnnounce: k.MayAnnounce})
	}
	return out, err
}

// Redirects lists the redirect names.
func (vw *Views) Redirects(ctx context.Context) []contract.Redirect {
	out := []contract.Redirect{}
	for _, r := range vw.Record.Redirects() {
		if vw.SeesNamed(ctx, r.Hostname) {
			out = append(out, contract.Redirect{Redirect: r, Leads: r.Base()})
		}
	}
	return out
}

// Redirect returns one redirect name.
func (vw *Views) Redirect(ctx context.Context, name string) (contract.Redirect, error) {
	r, ok := vw.Record.Redirect(names.Name(rooms.Canonical(name)))
	if !ok || !vw.SeesNamed(ctx, r.Hostname) {
		return contract.Redirect{}, store.Missing{Kind: "redirect", Name: name}
	}
	return contract.Redirect{Redirect: r, Leads: r.Base()}, nil
}

// peerKeyOf returns the public key of a probe key, which the server has to know as a peer's.
func peerKeyOf(private []byte) string {
	key, err := ecdh.X25519().NewPrivateKey(private)
	if err != nil {
		return ""
	}
	return base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
}

// peerKeys returns the public key of each further vantage point, by name: a WireGuard server has to know all of them as peers.
func (vw *Views) peerKeys(s site.Service) map[string]string {
	var out map[string]string
	for _, v := range vw.Rooms.Vantages.List() {
		if v.Own {
			continue
		}
		if key, err := probe.WireGuardKey(vantages.ProbeKey(s.ProbeKey, v.ID)); err == nil {
			if out == nil {
				out = map[string]string{}
			}
			out[v.Name] = peerKeyOf(key)
		}
	}
	return out
}

// DeviceReports returns what was last seen of a site's devices.
func (vw *Views) DeviceReports(code string) ([]contract.DeviceReport, error) {
	p, err := vw.FindSite(code)
	out := []contract.DeviceReport{}
	for _, d := range p.Devices {
		if r, ok := vw.SiteSide.Device(d.ID); ok {
			r.Device = d.Name
			out = append(out, deviceReportView(r))
		}
	}
	return out, err
}

func deviceReportView(r siteside.DeviceReport) contract.DeviceReport {
	out := contract.DeviceReport{Device: r.Device, Present: r.Present, Unsure: r.Unsure, Found: rooms.AddressText(r.Found),
		IPv6: rooms.AddressText(r.IPv6), MAC: r.MAC, At: r.At, Hours: r.Hours,
		Without: r.WithoutIPv6}
	out.Verdict, out.Words = diagnose.OfDevice(r.Present, r.Unsure, out.Found)
	for _, p := range r.Ports {
		out.Ports = append(out.Ports, contract.PortSeen(p))
	}
	return out
}

// linkReportView is what is known of a link from its site's side; nil when nothing is.
func (vw *Views) linkReportView(linkID int64) *contract.LinkReport {
	r, ok := vw.SiteSide.Report(linkID)
	if !ok {
		return nil
	}
	out := &contract.LinkReport{NAT: r.NAT.Verdict, Verdict: diagnose.OfNAT(r.NAT.Verdict), Words: r.NAT.Words,
		Remedies: r.NAT.Remedies, Router: rooms.AddressText(r.NAT.RouterWAN), Reason: r.Reason, Held: r.Held,
		Agent: r.Agent, Protocol: r.Protocol, Resolver: r.Resolver, Cannot: r.Cannot, Reported: r.Reported, Rhythm: r.Rhythm.Seconds(),
		OwnIPv4: r.Own.IPv4, OwnIPv6: r.Own.IPv6}
	if w, said := vw.SiteSide.Router(linkID); said {
		out.Gateway, out.GatewayWords = gatewayView(w), diagnose.RouterSays(w, vw.Now())
	}
	for _, hop := range r.NAT.Chain {
		out.Chain = append(out.Chain, hop.String())
	}
	for _, one := range r.Sources {
		out.Sources = append(out.Sources, contract.LinkSource{Source: one.Source, Via: one.Via, Addresses: one.Addresses.String(),
			At: one.At, Problem: one.Problem, Dissent: one.Dissent})
	}
	for _, one := range r.Refused {
		out.Refused = append(out.Refused, contract.Refusal{Reason: one.Reason, From: rooms.AddressText(one.From), Count: one.Count,
			Stranger: one.Stranger, First: one.First, Last: one.Last})
	}
	return out
}

// Vantages lists the vantage points, the server's own first.
func (vw *Views) Vantages() []contract.Vantage {
	now, unfit, counts := vw.Now(), vw.Prober.Unfit(), vw.Prober.CountResults()
	out := []contract.Vantage{}
	for _, v := range vw.Rooms.Vantages.List() {
		one := contract.Vantage{ID: v.ID, Name: v.Name, Note: v.Note, Own: v.Own, Enrolled: v.Enrolled, Heard: v.Heard,
			State: contract.VantageWorking, Verdict: diagnose.Proven,
			Problem: unfit[v.ID], Services: counts[v.ID], VantageSelf: contract.VantageSelf(v.Self)}
		switch {
		case !one.Own && one.Enrolled.IsZero():
			one.State, one.Verdict = contract.VantageInvited, diagnose.Unsettled
		case v.Away(now):
			one.State, one.Verdict = contract.VantageAway, diagnose.Broken
		case one.Problem != "":
			one.State, one.Verdict, one.Cause = contract.VantageAiling, diagnose.Broken, "vantage-fault"
		}
		out = append(out, one)
	}
	return out
}

// Keys lists all keys.
func (vw *Views) Keys(ctx context.Context) ([]contract.Key, error) {
	list, err := vw.Access.Keys(ctx)
	out := make([]contract.Key, 0, len(list))
	for _, k := range list {
		if p, _, _ := vw.Record.SiteOfLink(int64(k.LinkID)); k.LinkID != 0 && !vw.Sees(ctx, p.ID) {
			continue
		}
		holder := k.Site + " " + k.Link
		switch k.Scope {
		case store.ScopePerson, store.ScopeCalendar:
			holder = k.Person
		case store.ScopeVantage:
			holder = "vantage point " + k.Vantage
		}
		out = append(out, contract.Key{ID: k.ID, Scope: k.Scope, May: store.Purpose(k.Scope, k.May), Label: k.Label, Holder: holder,
			Created: k.Created.Time, Revoked: k.Revoked.Time, Expires: k.Expires.Time, Used: k.Used.Time, MayAnnounce: k.MayAnnounce})
	}
	return out, err
}

func (vw *Views) linkView(l site.Link, now time.Time) contract.Link {
	ev := vw.LinkEvidence(l, now)
	return contract.Link{Link: ev.Link, Overdue: ev.Overdue, Report: vw.linkReportView(l.ID), Dynamic: l.Dynamic.String(),
		Pattern: vw.patternView(l.ID)}
}
