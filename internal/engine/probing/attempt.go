package probing

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/named"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Story probes every port of a service at the current address of its link, also by the hostname, and tells how it went.
func (p *Prober) Story(ctx context.Context, s site.Service) result.Round {
	return p.attempt(ctx, s, true, true)
}

// attempt probes a service. byName has the way by the hostname tried too, and story keeps what happened at each step.
func (p *Prober) attempt(ctx context.Context, s site.Service, byName, story bool) result.Round {
	where, l, r, ok := p.aim(s)
	if !ok {
		return r
	}
	var resolve []probe.Step
	if byName && r.Hostname != "" {
		ask := named.Ask{NameServer: p.NameServer, Resolvers: p.Resolvers, Deadline: p.Deadline}
		r.Named, resolve = ask.Resolve(ctx, r.Hostname, r.Address, p.Now())
	}
	began := time.Now()
	all := p.Speak
	if all == nil {
		all = speak.All
	}
	asked := p.request(s, where, l, r)
	asked.Brief = !story
	out := all(ctx, asked)
	r.Took = time.Since(began)
	r.Conclude(out, p.Now())
	r.Ways = result.WaysOf(s, record.Target(l), where.PinholeOf(s, l), out.Tries)
	if story {
		if r.Attempts = speak.Attempts(out); len(r.Attempts) > 0 {
			r.Attempts[0].Steps = append(resolve, r.Attempts[0].Steps...)
		}
	}
	if r.Named != nil && r.Named.Outcome == "" {
		r.Named.Outcome, r.Named.Message, r.Named.At = r.Outcome, r.Message, r.At
	}
	return r
}

// aim begins the result of a round with where it goes. ok is false where it cannot be made: then the result says why.
func (p *Prober) aim(s site.Service) (where record.Site, l site.Link, r result.Round, ok bool) {
	r = result.Round{Service: s, Outcome: probe.Skipped}
	if where, ok = p.record.Site(s.SiteID); ok {
		l, _ = where.Followed(s.LinkID)
		r.Site, r.LinkID, r.Address = where.Code, l.ID, where.TargetOf(s, l)
		r.Hostname = where.HostnameOn(l)
	}
	why := p.Quarantined(l)
	switch {
	case r.Address.IsValid():
		r.Held = why != ""
	case s.Forwarded():
		why = "the link's public address is not known yet"
	default:
		why = "the device's IPv6 address is not known, or not in the prefix of the link's: an agent on the same LAN learns it"
	}
	if why != "" {
		r.At, r.Message = p.Now(), why
		r.Attempts = []probe.Attempt{{Outcome: probe.Skipped, Message: why}}
	}
	return where, l, r, why == ""
}

// request is what a round of a service says.
func (p *Prober) request(s site.Service, where record.Site, l site.Link, r result.Round) speak.Service {
	var key []byte
	if s.ProbeKey != "" {
		key, _ = probe.WireGuardKey(s.ProbeKey)
	}
	return speak.Service{Request: speak.Request{Kind: s.Kind, Transport: s.Transport,
		Target: netip.AddrPortFrom(r.Address, uint16(record.Ports(s)[0])), Name: r.Hostname,
		Own: p.owns(s.SiteID, s.LinkID), Options: s.Options.Get(), ProbeKey: key, Deadline: p.Deadline, Brief: true},
		Last: uint16(record.Ports(s)[1]), Also: where.SecondTargetOf(s, l), Pinned: s.Fingerprint, Expected: s.ExpectedAt(p.Now()),
		Renewed: p.renewed(s.SiteID, s.DeviceID)}
}

// owns says whether a redirect of a service may be followed. It looks at the record when it is asked, which hardly any probe does: what it
// would have to keep until then is most of what a probe would cost.
func (p *Prober) owns(siteID, linkID int64) func(string, uint16) bool {
	return func(host string, port uint16) bool {
		where, _ := p.record.Site(siteID)
		l, _ := where.Followed(linkID)
		return where.OwnPorts(l)[fmt.Sprintf("%s:%d", host, port)]
	}
}

// renewed says whether a fingerprint may be that of a device's renewed certificate. It looks at the record when it is asked, as owns does.
func (p *Prober) renewed(siteID, deviceID int64) func(string) bool {
	return func(fingerprint string) bool {
		where, _ := p.record.Site(siteID)
		return !where.OfAnother(deviceID, fingerprint)
	}
}
