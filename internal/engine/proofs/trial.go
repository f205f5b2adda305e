package proofs

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
)

// wanted is a service whose way in is to be tried.
type wanted struct{ site, link, service int64 }

const (
	// waiting is how many trials may wait, trialsMost how many a link has in trialsWithin: the router is a guest's host.
	waiting      = 64
	trialsMost   = 3
	trialsWithin = time.Minute
	// lookLimit is how long the look from inside may take that says whether a trial is of use.
	lookLimit = 5 * time.Second
)

// Want has the way in to a service that fails tried soon, where its link allows it.
func (x *Proofs) Want(s site.Service, l site.Link) {
	if !l.MayMap || !l.Agent || !l.IPv4.IsValid() || !s.Forwarded() || s.OnRouter {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.under[s.ID] {
		return
	}
	select {
	case x.wanted <- wanted{s.SiteID, l.ID, s.ID}:
		x.under[s.ID] = true
	default: // so many fail that these tell nothing of one port
	}
}

// Trial returns what became of the last trial of a service, the zero value if there was none, and whether another is under way.
func (x *Proofs) Trial(serviceID int64) (t site.Trial, under bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.trials[serviceID], x.under[serviceID]
}

// Show takes over what another server knows of the trials of a service.
func (x *Proofs) Show(serviceID int64, t site.Trial, under bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.trials, serviceID)
	delete(x.under, serviceID)
	if t != (site.Trial{}) {
		x.trials[serviceID] = t
	}
	if under {
		x.under[serviceID] = true
	}
}

// allowed counts a trial of a link, and reports whether it is not one too many.
func (x *Proofs) allowed(linkID int64) bool {
	now := x.now()
	x.mu.Lock()
	defer x.mu.Unlock()
	list := slices.DeleteFunc(x.lately[linkID], func(at time.Time) bool { return now.Sub(at) > trialsWithin })
	ok := len(list) < trialsMost
	if ok {
		list = append(list, now)
	}
	x.lately[linkID] = list
	return ok
}

// try makes one trial. It is of no use where the port does not answer from inside either.
func (x *Proofs) try(ctx context.Context, w wanted) {
	defer func() {
		x.mu.Lock()
		delete(x.under, w.service)
		x.mu.Unlock()
		x.host.Review(w.site) // which may have waited for it
	}()
	p, l, ok := x.record.SiteOfLink(w.link)
	i := slices.IndexFunc(p.Services, func(s site.Service) bool { return s.ID == w.service })
	if !ok || i < 0 || !l.MayMap {
		return
	}
	looked, done := context.WithTimeout(ctx, lookLimit)
	err := x.side.Scan(looked, p.ID)
	done()
	if err != nil || !x.opens(p.Services[i]) || !x.allowed(l.ID) {
		return
	}
	t := site.Trial{At: x.now()}
	if t.Came, t.Why = x.borrow(ctx, p, l, p.Services[i]); t.Came == "" {
		return
	}
	x.mu.Lock()
	x.trials[w.service] = t
	x.mu.Unlock()
	x.log.Info("the way in was tried", "site", p.Code, "service", p.Services[i].Name, "came", t.Came, "why", t.Why)
	x.events.Publish(events.LinkReport, p.Code, l.Label, fmt.Sprintf("the way in to %s was tried: %s", p.Services[i].Name, t.Why))
}

// opens reports whether a service answers from inside, or whether that is not known.
func (x *Proofs) opens(s site.Service) bool {
	r, ok := x.side.Device(s.DeviceID)
	if !ok || !r.Present || r.Unsure || r.Found.IsValid() {
		return false
	}
	i := slices.IndexFunc(r.Ports, func(one siteside.PortSeen) bool { return one.Service == s.Name })
	return i >= 0 && (r.Ports[i].State == "open" || r.Ports[i].State == "unknown")
}

// borrow has the router pass the service's external port on to the agent, and sends to it. "" says that no agent took part.
func (x *Proofs) borrow(ctx context.Context, p record.Site, l site.Link, s site.Service) (site.Came, string) {
	transport := s.Transport
	if transport != probe.UDP {
		transport = probe.TCP
	}
	proof, end := x.side.BeginProof(p.ID, l.ID, siteside.ProofTask{Transport: transport, Borrow: s.ExternalFrom})
	defer end()
	news, err := proof.Listening(ctx)
	if err != nil {
		return "", ""
	}
	switch news.State {
	case "taken":
		return site.CameTaken, fmt.Sprintf("the router does not give port %d for a moment: it is taken", s.ExternalFrom)
	case "listening":
	default:
		return site.CameRefused, news.Problem
	}
	back := send(ctx, string(transport), netip.AddrPortFrom(l.IPv4, uint16(s.ExternalFrom)), proof)
	if back != "" {
		return site.CameNot, fmt.Sprintf("the router granted port %d for a moment, and what was sent to it did not arrive: %s",
			s.ExternalFrom, back)
	}
	return site.CameThrough, fmt.Sprintf("the router granted port %d for a moment, and what was sent to it arrived", s.ExternalFrom)
}
