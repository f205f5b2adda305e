package probing

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/named"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Result is one probe of all ports of a service from one vantage point.
type Result struct {
	Service  site.Service `json:"-"`
	Site     string       // code
	Hostname string
	LinkID   int64
	Address  netip.Addr
	At       time.Time
	Outcome  probe.Outcome
	Latency  time.Duration // zero when nothing came back
	Took     time.Duration // that the round was waited for
	Message  string
	LeftOut  string // why it does not count, though it was made; "" when it does
	Held     bool   // it was not made, because the link is quarantined

	ICMP        probe.ICMP     // that ended the attempt which decided
	Hung        bool           // it accepted, and said nothing
	Decided     netip.AddrPort // what that attempt was made at, and over what
	Over        probe.Transport
	Series      *probe.Series // how far packets got; nil if that was not measured
	Fingerprint string
	Weakness    string
	Certificate *speak.Certificate
	Named       *named.Result
	Ways        []seen.Way
	Attempts    []probe.Attempt // of a story
}

func (r Result) target() string {
	if !r.Address.IsValid() {
		return "at no address"
	}
	return "at " + netip.AddrPortFrom(r.Address, uint16(record.Ports(r.Service)[0])).String()
}

// waysOf tells what a round found over each way.
func waysOf(s site.Service, main, pinhole netip.Addr, tries []speak.Try) []seen.Way {
	if !s.Pinholed() {
		return nil
	}
	var out []seen.Way
	add := func(way site.Reach, at netip.Addr, port int) {
		w := seen.Way{Reach: way, Outcome: probe.Skipped, Message: "its address is not known, or not proven to be the site's"}
		if at.IsValid() {
			w.Target = netip.AddrPortFrom(at, uint16(port))
		}
		rule := probe.Rule{Expected: s.Expected}
		for _, t := range tries {
			if t.Target.Addr() == at && (w.Outcome == probe.Skipped || rule.Meaning(t.Outcome) == probe.NotWanted) {
				w.Outcome, w.Message = t.Outcome, t.Message
			}
		}
		out = append(out, w)
	}
	if s.Forwarded() {
		add(site.ByForward, main, s.ExternalFrom)
	}
	add(site.ByPinhole, pinhole, s.InternalFrom)
	return out
}

// Story probes every port of a service at the current address of its link, also by the hostname, and tells how it went.
func (p *Prober) Story(ctx context.Context, s site.Service) Result {
	return p.attempt(ctx, s, true, true)
}

// attempt probes a service. byName has the way by the hostname tried too, and story keeps what happened at each step.
func (p *Prober) attempt(ctx context.Context, s site.Service, byName, story bool) Result {
	r := Result{Service: s, Outcome: probe.Skipped}
	where, ok := p.record.Site(s.SiteID)
	var l site.Link
	if ok {
		l, _ = where.Followed(s.LinkID)
		r.Site, r.LinkID, r.Address = where.Code, l.ID, where.TargetOf(s, l)
		r.Hostname = where.HostnameOn(l)
	}
	skip := func(why string) Result {
		r.At, r.Message = p.Now(), why
		r.Attempts = []probe.Attempt{{Outcome: probe.Skipped, Message: why}}
		return r
	}
	if !r.Address.IsValid() {
		if s.Forwarded() {
			return skip("the link's public address is not known yet")
		}
		return skip("the device's IPv6 address is not known, or not in the prefix of the link's: an agent on the same LAN learns it")
	}
	if why := p.Quarantined(l); why != "" {
		r.Held = true
		return skip(why)
	}
	var resolve []probe.Step
	if byName && r.Hostname != "" {
		ask := named.Ask{NameServer: p.NameServer, Resolvers: p.Resolvers, Deadline: p.Deadline}
		r.Named, resolve = ask.Resolve(ctx, r.Hostname, r.Address, p.Now())
	}
	var key []byte
	if s.ProbeKey != "" {
		key, _ = probe.WireGuardKey(s.ProbeKey)
	}
	began := time.Now()
	all := p.Speak
	if all == nil {
		all = speak.All
	}
	out := all(ctx, speak.Service{Request: speak.Request{Kind: s.Kind, Transport: s.Transport,
		Target: netip.AddrPortFrom(r.Address, uint16(record.Ports(s)[0])), Name: r.Hostname,
		Own: p.owns(s.SiteID, s.LinkID), Options: s.Options.Get(), ProbeKey: key, Deadline: p.Deadline, Brief: !story},
		Last: uint16(record.Ports(s)[1]), Also: where.SecondTargetOf(s, l), Pinned: s.Fingerprint, Expected: s.ExpectedAt(p.Now()),
		Renewed: p.renewed(s.SiteID, s.DeviceID)})
	r.At, r.Took = p.Now(), time.Since(began)
	r.Outcome, r.Latency, r.Message = out.Outcome, out.Latency, out.Deciding.Message
	if out.Inside {
		r.LeftOut, r.Message = speak.Insider, speak.Insider
	}
	r.ICMP, r.Hung, r.Decided, r.Over = out.Deciding.ICMP, out.Deciding.Hung, out.Deciding.Target, out.Deciding.Transport
	r.Fingerprint, r.Weakness = out.Deciding.Fingerprint, out.Deciding.Weakness
	if c := out.Deciding.Certificate; !c.Expires.IsZero() {
		r.Certificate = &c
	}
	r.Ways = waysOf(s, record.Target(l), where.PinholeOf(s, l), out.Tries)
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
