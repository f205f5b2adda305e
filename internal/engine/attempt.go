package engine

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/tcpport"
)

// round is one probe of all ports of a service.
type round struct {
	service  site.Service
	site     string
	hostname string
	linkID   int64
	address  netip.Addr
	at       time.Time
	outcome  probe.Outcome
	latency  time.Duration // zero where nothing came back
	attempts []contract.Attempt
}

func (r round) target() string {
	if !r.address.IsValid() {
		return "at no address"
	}
	return "at " + netip.AddrPortFrom(r.address, uint16(r.service.ExternalFrom)).String()
}

// target picks the address of a link that probes go to.
func target(l site.Link) netip.Addr {
	if l.IPv4.IsValid() {
		return l.IPv4
	}
	return l.IPv6
}

// attempt probes every port of a service at the current address of its link, all at once. The outcome is that of the
// first port that is not as the owner wants it, or of the first port.
func (e *Engine) attempt(ctx context.Context, s site.Service) round {
	r := round{service: s, outcome: probe.Skipped}
	where, ok := e.record.site(s.SiteID)
	if ok {
		l, _ := where.followed(s.LinkID)
		r.site, r.linkID, r.address = where.Code, l.ID, target(l)
		for _, h := range where.hostnames {
			if where.answerOf(h) == l.Addresses() {
				r.hostname = string(h.Name)
				break
			}
		}
	}
	if !r.address.IsValid() {
		r.at = e.now()
		r.attempts = []contract.Attempt{{Outcome: probe.Skipped, Said: "the link's public address is not known yet"}}
		return r
	}
	tries := make([]tcpport.Attempt, s.ExternalTo-s.ExternalFrom+1)
	var wg sync.WaitGroup
	for i := range tries {
		wg.Go(func() {
			tries[i] = tcpport.Connect(ctx, netip.AddrPortFrom(r.address, uint16(s.ExternalFrom+i)), e.config.ProbeDeadline)
		})
	}
	wg.Wait()
	r.at = e.now()
	worst := false
	for i, t := range tries {
		outcome, said := probe.FromSignal(t.Signal), t.Said
		if t.From.IsValid() && t.From.Addr() == r.address {
			outcome, said = probe.Skipped, "this vantage point has the site's own address: it is inside, and its view does not count"
		}
		a := contract.Attempt{Target: netip.AddrPortFrom(r.address, uint16(s.ExternalFrom+i)).String(), Outcome: outcome,
			TookUS: t.Took.Microseconds(), Said: said}
		if t.From.IsValid() {
			a.From = t.From.String()
		}
		r.attempts = append(r.attempts, a)
		unwanted := !outcome.Good()
		if s.Expected == probe.ExpectClosed {
			unwanted = outcome.Open()
		}
		if i == 0 || unwanted && !worst {
			r.outcome, r.latency = outcome, 0
			if outcome.Good() || outcome == probe.Refused {
				r.latency = t.Took
			}
		}
		worst = worst || unwanted
	}
	return r
}

// ProbeNow probes a service at once, out of turn, and tells the story. The result counts like any other.
func (e *Engine) ProbeNow(ctx context.Context, code, service string) (contract.Story, error) {
	where, s, err := e.service(code, service)
	if err != nil {
		return contract.Story{}, err
	}
	r := e.attempt(ctx, s)
	e.prober.mu.Lock()
	w := e.prober.watches[s.ID]
	e.prober.mu.Unlock()
	if w != nil && ctx.Err() == nil && e.prober.take(w, r) {
		e.prober.mu.Lock()
		e.prober.hurry(w, e.now())
		e.prober.mu.Unlock()
	}
	return contract.Story{Site: where.Code, Service: s.Name, Vantage: e.config.Vantage, Hostname: r.hostname, At: r.at,
		Outcome: r.outcome, State: e.prober.standing(s.ID).state, Attempts: r.attempts}, nil
}

func (e *Engine) premises(code string) (premises, error) {
	p, ok := e.record.byCode(code)
	if !ok {
		return p, store.Missing{Kind: "site", Name: code}
	}
	return p, nil
}

func (e *Engine) service(code, name string) (premises, site.Service, error) {
	p, err := e.premises(code)
	if err != nil {
		return p, site.Service{}, err
	}
	for _, s := range p.services {
		if s.Name == name {
			return p, s, nil
		}
	}
	return p, site.Service{}, store.Missing{Kind: "service of " + p.Code, Name: name}
}
