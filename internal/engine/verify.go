package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// nameState is what is known of one hostname beyond the record.
type nameState struct {
	published time.Time
	given     wan.Pair
	asked     bool
	ttl       int                 // with which its addresses were published, in seconds
	state     names.State         // as it was last reported
	resolvers map[string]resolved // by server; replaced, never changed
}

type nameStates struct {
	mu    sync.Mutex
	given map[int64]nameState
}

// publish notes that a hostname's answer was set anew: what was given before proves nothing any more.
func (n *nameStates) publish(hostnameID int64, at time.Time) {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.given[hostnameID]
	s.published, s.asked, s.resolvers = at, false, nil
	n.given[hostnameID] = s
}

func (n *nameStates) of(hostnameID int64) nameState {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.given[hostnameID]
}

func (n *nameStates) set(hostnameID int64, f func(*nameState)) {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.given[hostnameID]
	f(&s)
	n.given[hostnameID] = s
}

// judge gives a hostname's state. Both families must be right; the IPv4 address is shown where both are.
func (e *Engine) judge(p record.Site, h site.Hostname, now time.Time) names.State {
	want, known := p.AnswerOf(h), e.names.of(h.ID)
	if h.DeviceID != 0 && e.SiteSide.LostIPv6(h.DeviceID) {
		return names.StateStale
	}
	_, held := e.pushOf(h)
	s := names.Standing{Held: held, Want: want.IPv4, Given: known.given.IPv4, Published: e.lastChange(p, h), TTL: time.Duration(h.TTL) * time.Second}
	if !want.IPv4.IsValid() || known.given.IPv4 == want.IPv4 && want.IPv6.IsValid() {
		s.Want, s.Given = want.IPv6, known.given.IPv6
	}
	if !known.asked || held {
		s.Given = s.Want
		if st := s.Judge(now); st == names.StateIdle || st == names.StateHeld {
			return st
		}
		return names.StateSettling
	}
	if !s.Given.IsValid() && s.Want.IsValid() {
		return names.StateStale // the server was asked and gave nothing
	}
	state := s.Judge(now)
	if state == names.StatePointed {
		if len(e.behind(p, h)) > 0 {
			return names.StateStale
		}
		for _, view := range known.resolvers {
			if view.given != want {
				return names.StateSettling // it may still have a right to that
			}
		}
	}
	return state
}

// askAgain asks for the names of a site soon. A full queue drops it: the regular round comes by anyway.
func (e *Engine) askAgain(siteID int64) {
	select {
	case e.recheck <- siteID:
	default:
	}
}

// runVerify asks the zone's server for names that changed, at once, and for all names at intervals. Our own server answers at once;
// others, which may be away, are asked apart, so that nobody waits for them.
func (e *Engine) runVerify(ctx context.Context) {
	home, elsewhere := newInquiries(), newInquiries()
	var wg sync.WaitGroup
	defer func() { wg.Wait(); e.home.Close() }()
	home.work(ctx, &wg, homeWorkers, func(id int64, every bool) {
		e.verifyHome(ctx, id, every)
		elsewhere.ask(id, every)
	})
	elsewhere.work(ctx, &wg, elsewhereWorkers, func(id int64, every bool) { e.verifyRemote(ctx, id, every) })
	round := time.NewTicker(e.config.VerifyEvery)
	defer round.Stop()
	states := time.NewTicker(time.Second)
	defer states.Stop()
	askAll := func() {
		for _, p := range e.record.Sites() {
			home.ask(p.ID, true)
		}
	}
	askAll()
	for {
		select {
		case id := <-e.recheck:
			home.ask(id, false)
		case <-round.C:
			askAll()
		case <-states.C:
			e.reportNames()
		case <-ctx.Done():
			return
		}
	}
}

// verifyHome asks our own server for every hostname of a site in a hosted zone, or for those that are not known to be right.
func (e *Engine) verifyHome(ctx context.Context, siteID int64, every bool) {
	p, ok := e.record.Site(siteID)
	if !ok || e.config.NameServer == "" {
		return
	}
	for _, h := range p.Hostnames {
		known := e.names.of(h.ID)
		if e.record.Zone(h.ZoneID).Kind == names.Remote || !every && known.asked && known.given == p.AnswerOf(h) {
			continue
		}
		var given wan.Pair
		var err error
		if every {
			given, err = e.home.Addresses(ctx, h.Name)
		} else {
			given, err = e.home.Changed(ctx, h.Name, p.AnswerOf(h))
		}
		e.noteGiven(ctx, siteID, h, known, place{e.config.NameServer, dnsask.Authoritative}, given, err)
	}
	e.noteAnswered(p)
}

// verifyRemote asks the servers of others: the primaries of remote zones, secondaries and resolvers.
func (e *Engine) verifyRemote(ctx context.Context, siteID int64, every bool) {
	p, ok := e.record.Site(siteID)
	if !ok || e.config.NameServer == "" {
		return
	}
	remote := false
	for _, h := range p.Hostnames {
		z, known := e.record.Zone(h.ZoneID), e.names.of(h.ID)
		if z.Kind != names.Remote || !z.Pushing || !every && known.asked && known.given == p.AnswerOf(h) {
			continue
		}
		remote = true
		server := z.Primary.String()
		if !e.asking.enter(server) { // enough others wait for it
			time.AfterFunc(again, func() { e.askAgain(siteID) })
			continue
		}
		if err := e.repair(ctx, z, h); err != nil && ctx.Err() == nil {
			e.log.Debug("a primary could not be asked", "zone", z.Apex, "error", err)
		}
		given, err := dnsask.Addresses(ctx, server, dnsask.Authoritative, h.Name)
		e.asking.leave(server)
		e.noteGiven(ctx, siteID, h, known, place{server, dnsask.Authoritative}, given, err)
	}
	if remote {
		e.noteAnswered(p)
	}
	if current, ok := e.record.Site(siteID); ok && len(p.Hostnames) > 0 && sameAddresses(p, current) { // or that move brings its own question
		e.verifyElsewhere(ctx, p, every)
	}
}

// noteGiven notes what a server gave for a hostname, and asks it for the hostname's aliases.
func (e *Engine) noteGiven(ctx context.Context, siteID int64, h site.Hostname, known nameState, at place, given wan.Pair, err error) {
	for _, a := range e.aliasesOf(siteID) {
		if a.HostnameID == h.ID && err == nil {
			e.askAlias(ctx, a, at)
		}
	}
	if err != nil {
		if ctx.Err() == nil {
			e.log.Warn("a name could not be verified", "name", h.Name, "error", err)
		}
		return
	}
	e.names.set(h.ID, func(s *nameState) {
		if s.published.Equal(known.published) { // or else it is the answer from before a change that was made meanwhile
			s.given, s.asked = given, true
		}
	})
}

// noteAnswered marks the open moves of a site as answered where all of its hostnames are.
func (e *Engine) noteAnswered(p record.Site) {
	now := e.now()
	current, ok := e.record.Site(p.ID)
	if !ok || len(p.Hostnames) == 0 || !sameAddresses(p, current) {
		return // it moved while we asked; that move brings its own question
	}
	for _, h := range p.Hostnames {
		if known := e.names.of(h.ID); !known.asked || known.given != p.AnswerOf(h) {
			return
		}
	}
	e.moves.Answered(p.ID, now)
}

func sameAddresses(a, b record.Site) bool {
	if len(a.Links) != len(b.Links) {
		return false
	}
	for i := range a.Links {
		if a.Links[i].Addresses() != b.Links[i].Addresses() {
			return false
		}
	}
	return true
}

// reportNames tells of hostnames whose state is another than at the last report.
func (e *Engine) reportNames() {
	now := e.now()
	for _, p := range e.record.Sites() {
		for _, h := range p.Hostnames {
			state := e.judge(p, h, now)
			before := e.names.of(h.ID).state
			if state == before {
				continue
			}
			e.names.set(h.ID, func(s *nameState) { s.state = state })
			if before != "" || state == names.StateStale {
				e.Events.Publish(events.HostnameState, p.Code, string(h.Name), fmt.Sprintf("%s is %s", h.Name, state))
			}
			e.faults.review(p.ID)
		}
	}
}
