package engine

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/dnsask"
	"inkpost.example/inkpost/internal/wire/speak"
)

// round is one probe of all ports of a service from one vantage point.
type round struct {
	service  site.Service
	site     string
	hostname string
	linkID   int64
	address  netip.Addr
	at       time.Time
	outcome  probe.Outcome
	latency  time.Duration // zero where nothing came back
	said     string
	left     string // why it does not count, though it was made; "" where it does
	held     bool   // it was not made, to leave whoever is there alone

	fingerprint string
	loose       string
	certificate *contract.CertificateView
	named       *contract.NameWay
	ways        []contract.ServiceWay
	attempts    []contract.Attempt
}

func (r round) target() string {
	if !r.address.IsValid() {
		return "at no address"
	}
	return "at " + netip.AddrPortFrom(r.address, uint16(record.Ports(r.service)[0])).String()
}

// waysOf tells what a round found over each way.
func waysOf(s site.Service, main, pinhole netip.Addr, tries []speak.Try) []contract.ServiceWay {
	if !s.Pinholed() {
		return nil
	}
	var out []contract.ServiceWay
	add := func(way site.Reach, at netip.Addr, port int) {
		w := contract.ServiceWay{Way: way, Outcome: probe.Skipped, Said: "its address is not known, or not proven to be the site's"}
		if at.IsValid() {
			w.Target = netip.AddrPortFrom(at, uint16(port)).String()
		}
		rule := probe.Rule{Expected: s.Expected}
		for _, t := range tries {
			if t.Target.Addr() == at && (w.Outcome == probe.Skipped || rule.Meaning(t.Outcome) == probe.NotWanted) {
				w.Outcome, w.Said = t.Outcome, t.Said
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

// attempt probes every port of a service at the current address of its link. byName has the way by the hostname tried too.
func (e *Engine) attempt(ctx context.Context, s site.Service, byName bool) round {
	r := round{service: s, outcome: probe.Skipped}
	where, ok := e.record.Site(s.SiteID)
	var l site.Link
	if ok {
		l, _ = where.Followed(s.LinkID)
		r.site, r.linkID, r.address = where.Code, l.ID, where.TargetOf(s, l)
		r.hostname = where.HostnameOn(l)
	}
	skip := func(why string) round {
		r.at, r.said = e.now(), why
		r.attempts = []contract.Attempt{{Outcome: probe.Skipped, Said: why}}
		return r
	}
	if !r.address.IsValid() {
		if s.Forwarded() {
			return skip("the link's public address is not known yet")
		}
		return skip("the device's IPv6 address is not known, or not in the prefix of the link's: an agent on the same LAN learns it")
	}
	if why := e.prober.doors.shut(l, e.SiteSide.LastHeard(l)); why != "" {
		r.held = true
		return skip(why)
	}
	var resolve []contract.Step
	if byName && r.hostname != "" {
		r.named, resolve = e.byName(ctx, r.hostname, r.address)
	}
	key, _ := probe.WireGuardKey(s.ProbeKey)
	out := speak.All(ctx, speak.Service{Request: speak.Request{Kind: s.Kind, Transport: s.Transport, Target: netip.AddrPortFrom(r.address, uint16(record.Ports(s)[0])), Name: r.hostname,
		Own: where.Owns(l), Options: s.Options, ProbeKey: key, Deadline: e.config.ProbeDeadline},
		Last: uint16(record.Ports(s)[1]), Also: where.SecondTargetOf(s, l), Pinned: s.Fingerprint, Expected: s.ExpectedAt(e.now())})
	r.at = e.now()
	r.outcome, r.latency, r.said = out.Outcome, out.Latency, out.Deciding.Said
	if out.Inside {
		r.left, r.said = speak.Insider, speak.Insider
	}
	r.fingerprint, r.loose = out.Deciding.Fingerprint, out.Deciding.Loose
	if c := out.Deciding.Certificate; !c.Expires.IsZero() {
		r.certificate = &contract.CertificateView{Names: c.Names, Expires: c.Expires, Problem: c.Problem}
	}
	r.attempts = speak.Attempts(out)
	r.ways = waysOf(s, record.Target(l), where.PinholeOf(s, l), out.Tries)
	if len(r.attempts) > 0 {
		r.attempts[0].Steps = append(resolve, r.attempts[0].Steps...)
	}
	if r.named != nil && r.named.Outcome == "" {
		r.named.Outcome, r.named.Said, r.named.At = r.outcome, r.said, r.at
	}
	return r
}

// byName resolves a hostname as a user's machine would. A name that leads elsewhere is not followed: probes go to the site's
// own address only.
func (e *Engine) byName(ctx context.Context, name string, want netip.Addr) (*contract.NameWay, []contract.Step) {
	w := &contract.NameWay{Hostname: name, Resolver: e.config.NameServer, At: e.now()}
	kind := dnsask.Authoritative
	if len(e.config.Resolvers) > 0 {
		w.Resolver, kind = e.config.Resolvers[0], dnsask.Resolver
	}
	if w.Resolver == "" {
		return nil, nil
	}
	bounded, cancel := context.WithTimeout(ctx, e.config.ProbeDeadline)
	defer cancel()
	began := time.Now()
	pair, err := dnsask.Addresses(bounded, w.Resolver, kind, names.Name(name))
	step := contract.Step{Name: "resolve", AtUS: time.Since(began).Microseconds(), Words: fmt.Sprintf("%s says %s is %s", w.Resolver, name, pair)}
	w.Given = pair.String()
	switch {
	case err != nil:
		w.Outcome, w.Said = probe.Skipped, fmt.Sprintf("%s could not be asked for %s: %v", w.Resolver, name, err)
		step.Words = w.Said
	case !pair.Known():
		w.Outcome, w.Said = probe.Skipped, fmt.Sprintf("%s knows no address of %s", w.Resolver, name)
		step.Words = w.Said
	case pair.IPv4 != want && pair.IPv6 != want:
		w.Outcome, w.Said = probe.Skipped, fmt.Sprintf("%s gives %s for %s, not %s: whoever goes by the name does not get to the site", w.Resolver, pair, name, want)
		step.Words = w.Said
	}
	return w, []contract.Step{step}
}

// ProbeNow probes a service at once, out of turn, and tells the story. The result counts like any other. vantage names the
// vantage point; "" is the server's own.
func (e *Engine) ProbeNow(ctx context.Context, code, service, vantage string) (contract.Story, error) {
	where, s, err := e.service(code, service)
	if err != nil {
		return contract.Story{}, err
	}
	if vantage = strings.TrimSpace(vantage); vantage != "" && vantage != e.config.Vantage {
		return e.probeFrom(ctx, where, s, vantage)
	}
	r := e.attempt(ctx, s, true)
	if ctx.Err() == nil {
		e.prober.takeOutOfTurn(s.ID, r)
	}
	return e.story(where, s, r, e.config.Vantage), nil
}

func (e *Engine) story(where record.Site, s site.Service, r round, vantage string) contract.Story {
	now := e.prober.standing(s.ID)
	mute := s.Mute() && r.outcome == probe.Silent
	return contract.Story{Words: probe.Words(s.ExpectedAt(r.at), now.state, mute), Site: where.Code, Service: s.Name, Vantage: vantage, Hostname: r.hostname, At: r.at, Outcome: r.outcome, State: now.state, Attempts: r.attempts,
		Fingerprint: r.fingerprint, Pinned: s.Fingerprint, Certificate: r.certificate, Loose: r.loose, Named: r.named, NotProvable: mute}
}

func (e *Engine) premises(code string) (record.Site, error) {
	p, ok := e.record.SiteByCode(code)
	if !ok {
		return p, store.Missing{Kind: "site", Name: code}
	}
	return p, nil
}

func (e *Engine) service(code, name string) (record.Site, site.Service, error) {
	p, err := e.premises(code)
	if err != nil {
		return p, site.Service{}, err
	}
	for _, s := range p.Services {
		if s.Name == name {
			return p, s, nil
		}
	}
	return p, site.Service{}, store.Missing{Kind: "service of " + p.Code, Name: name}
}
