package checkup

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/wire/mail"
)

func (r *Room) resolvers(ctx context.Context) []checkup.Point {
	list := make([]checkup.Asked, len(r.Resolvers))
	var wg sync.WaitGroup
	for i, at := range r.Resolvers {
		wg.Go(func() {
			list[i].At = at
			began := time.Now()
			// Any zone of ours will do: whoever resolves nothing of them is of no use here.
			name := "."
			if zones := r.Record.Zones(); len(zones) > 0 {
				name = string(zones[0].Apex)
			}
			if err := answers(ctx, at, name); err != nil {
				list[i].Trouble = err.Error()
			}
			list[i].Took = time.Since(began)
		})
	}
	wg.Wait()
	return checkup.JudgeResolvers(list)
}

func (r *Room) vantages(context.Context) []checkup.Point {
	var list []checkup.View
	for _, v := range r.Views.Vantages() {
		list = append(list, checkup.View{Name: v.Name, Own: v.Own, State: v.State, Problem: v.Problem})
	}
	return checkup.JudgeViews(list, contract.VantageWorking)
}

// door is a port of ours that the world has to reach.
type door struct {
	name      string
	kind      probe.Kind
	transport probe.Transport
	options   probe.Options
	host      netip.Addr // zero for where a vantage point reaches this server
	port      int        // that the world uses
	inner     int        // that we listen at
	needed    string
}

// ours lists the ports that the world has to reach.
func (r *Room) ours() (out []door) {
	web := door{name: "console", kind: probe.KindHTTP, transport: probe.TCP, options: probe.Options{Path: "/healthz"},
		port: port(r.Installation.HTTP), needed: "agents and people do not reach this server"}
	if u, err := url.Parse(r.Installation.PublicURL); err == nil && u.Host != "" {
		web.port = 80
		if u.Scheme == "https" {
			web.port, web.kind, web.options = 443, probe.KindTLS, probe.Options{}
		}
		if n, err := strconv.Atoi(u.Port()); err == nil {
			web.port = n
		}
	}
	out = append(out, web)
	ask := "."
	if zones := r.Record.Zones(); len(zones) > 0 {
		ask = string(zones[0].Apex)
	}
	zonePort, err := strconv.Atoi(cmp.Or(r.Installation.ZonePort, "53"))
	if err != nil {
		zonePort = 53
	}
	for _, t := range []probe.Transport{probe.UDP, probe.TCP} {
		out = append(out, door{name: "names over " + t.String(), kind: probe.KindDNS, transport: t,
			options: probe.Options{Ask: ask}, host: r.namedAt(), port: zonePort, inner: port(r.Installation.DNS),
			needed: "without it, hosted names are not found"})
	}
	if r.Installation.STUN != "" {
		out = append(out, door{name: "STUN", kind: probe.KindSTUN, transport: probe.UDP, port: port(r.Installation.STUN),
			needed: "without it, agents ask this server over HTTP for their address"})
	}
	if r.Installation.Redirect != "" && len(r.RedirectAt) > 0 {
		out = append(out, door{name: "redirects", kind: probe.KindHTTP, transport: probe.TCP, options: probe.Options{Status: "100-599"},
			host: r.RedirectAt[0], port: 80, inner: port(r.Installation.Redirect), needed: "without it, redirect names lead nowhere"})
	}
	return out
}

// namedAt is the address of our name server that some zone names; zero if none does, as behind a router that passes the port on.
func (r *Room) namedAt() netip.Addr {
	at, err := netip.ParseAddrPort(r.Installation.DNS)
	if err != nil {
		return netip.Addr{}
	}
	for _, z := range r.Record.Zones() {
		for _, s := range z.Servers {
			if slices.Contains(s.Addresses, at.Addr()) {
				return at.Addr()
			}
		}
	}
	return netip.Addr{}
}

func port(listener string) int {
	_, text, _ := net.SplitHostPort(listener)
	n, _ := strconv.Atoi(text)
	return n
}

// doors has each vantage point elsewhere try each of our ports.
func (r *Room) doors(ctx context.Context) []checkup.Point {
	var out []checkup.Point
	for _, v := range r.Views.Vantages() {
		if v.Own || v.State != contract.VantageWorking {
			continue
		}
		ports := r.ours()
		found := make([]checkup.Door, len(ports))
		var wg sync.WaitGroup
		for i, d := range ports {
			wg.Go(func() { found[i] = r.door(ctx, v.Name, d) })
		}
		wg.Wait()
		for _, d := range found {
			out = append(out, d.Judge())
		}
	}
	return out
}

func (r *Room) door(ctx context.Context, from string, d door) checkup.Door {
	look := func(port int) (vantages.Outcome, error) {
		return r.Rooms.Vantages.Look(ctx, from, vantages.Assignment{Target: d.host, Ports: [2]int{port, port}, Kind: d.kind,
			Transport: d.transport, Options: d.options, Expected: probe.ExpectReachable, Interval: time.Minute})
	}
	out := checkup.Door{Name: d.name, From: from, Needed: d.needed, Where: d.transport.String() + " port " + strconv.Itoa(d.port)}
	o, err := look(d.port)
	if err != nil {
		out.Words = err.Error()
		return out
	}
	if o.Outcome == probe.Skipped {
		out.Words = o.Message
		return out
	}
	out.Where = d.transport.String() + " " + net.JoinHostPort(o.Target, strconv.Itoa(d.port))
	out.Tried, out.Answers, out.Took, out.Words = true, o.Outcome.Good(), o.Latency, cmp.Or(o.Message, string(o.Outcome))
	if !out.Answers && d.inner != 0 && d.inner != d.port {
		if o, err := look(d.inner); err == nil && o.Outcome.Good() {
			out.Inner, out.InnerAnswers = d.inner, true
		}
	}
	return out
}

func (r *Room) mail(ctx context.Context) []checkup.Point {
	p := checkup.Post{Set: r.Mail.Address != "", Address: r.Mail.Address}
	if p.Set {
		began := time.Now()
		var refused mail.Refused
		if err := r.Mail.Greet(ctx); errors.As(err, &refused) {
			p.Step, p.Trouble = refused.At, refused.Words
		}
		p.Took = time.Since(began)
	}
	return []checkup.Point{p.Judge()}
}

// certificate looks at what the public URL shows, as a browser does.
func (r *Room) certificate(ctx context.Context) []checkup.Point {
	c := checkup.Cert{URL: r.Installation.PublicURL}
	if u, err := url.Parse(r.Installation.PublicURL); err == nil && u.Scheme == "https" {
		d := tls.Dialer{Config: &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}}
		conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "443")))
		var bad *tls.CertificateVerificationError
		switch {
		case err == nil:
			leaf := conn.(*tls.Conn).ConnectionState().PeerCertificates[0]
			c.Names, c.Expires = leaf.DNSNames, leaf.NotAfter
			_ = conn.Close()
		case errors.As(err, &bad):
			c.Trouble = why(bad)
		default:
			c.Trouble = err.Error()
		}
	}
	if r.Installation.Renewal != nil {
		c.Renewal = r.Installation.Renewal()
	}
	return []checkup.Point{c.Judge(r.Now())}
}

// why says what is wrong with a certificate.
func why(bad *tls.CertificateVerificationError) string {
	var invalid x509.CertificateInvalidError
	if errors.As(bad.Err, &invalid) && invalid.Reason == x509.Expired && len(bad.UnverifiedCertificates) > 0 {
		return "its certificate has expired on " + bad.UnverifiedCertificates[0].NotAfter.UTC().Format("2 Jan 2006")
	}
	return bad.Err.Error()
}

// answers returns nil if a resolver finds a name, or says that there is none.
func answers(ctx context.Context, at, name string) error {
	return surveyorOf(at).Answers(ctx, name, dns.TypeSOA)
}
