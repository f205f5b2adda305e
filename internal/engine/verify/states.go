package verify

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// nameState is what is known of one hostname beyond the record.
type nameState struct {
	published time.Time
	given     wan.Pair
	asked     bool
	state     names.State         // as it was last reported
	resolvers map[string]resolved // by server; replaced, never changed
}

type nameStates struct {
	mu      locks.Leaf
	given   map[int64]nameState
	touched map[int64]bool // hostnames of which something was learned since states were reported last
}

// take hands out which hostnames were touched, and begins anew.
func (n *nameStates) take() map[int64]bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := n.touched
	n.touched = map[int64]bool{}
	return out
}

// publish notes that a hostname's answer was set anew: what was given before proves nothing any more.
func (n *nameStates) publish(hostnameID int64, at time.Time) {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.given[hostnameID]
	s.published, s.asked, s.resolvers = at, false, nil
	n.given[hostnameID], n.touched[hostnameID] = s, true
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
	n.given[hostnameID], n.touched[hostnameID] = s, true
}

// State returns a hostname's state. Both families must be right; the IPv4 address is shown where both are.
func (v *Verifier) State(p record.Site, h site.Hostname, now time.Time) names.State {
	want, known := p.AnswerOf(h), v.names.of(h.ID)
	if h.DeviceID != 0 && v.host.LostIPv6(h.DeviceID) {
		return names.StateStale
	}
	held := v.host.Held(h)
	s := names.HostnameEvidence{Held: held, Want: want.IPv4, Given: known.given.IPv4, Published: v.lastChange(p, h),
		TTL: time.Duration(h.TTL) * time.Second}
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
		if len(v.Behind(p, h)) > 0 {
			return names.StateStale
		}
		for _, r := range known.resolvers {
			if r.given != want {
				return names.StateSettling // it may still have a right to that
			}
		}
	}
	return state
}

// Ask asks for the names of a site soon. A full queue drops it: the regular round comes by anyway.
func (v *Verifier) Ask(siteID int64) {
	select {
	case v.recheck <- siteID:
	default:
	}
}

// Run asks the zone's server for names that changed, at once, and for all names at intervals. Our own server answers at once;
// others, which may be away, are asked apart, so that nobody waits for them.
func (v *Verifier) Run(ctx context.Context) {
	local, remote := newInquiries(), newInquiries()
	var wg sync.WaitGroup
	defer func() { wg.Wait(); v.local.Close() }()
	local.work(ctx, &wg, localWorkers, func(id int64, every bool) {
		v.verifyLocal(ctx, id, every)
		remote.ask(id, every)
	})
	remote.work(ctx, &wg, remoteWorkers, func(id int64, every bool) { v.verifyRemote(ctx, id, every) })
	round := rounds.Every(v.every)
	defer round.Stop()
	states, reporting := rounds.Every(time.Second), reporting{}
	defer states.Stop()
	askAll := func() {
		for _, p := range v.record.Sites() {
			local.ask(p.ID, true)
		}
	}
	askAll()
	for {
		select {
		case id := <-v.recheck:
			local.ask(id, false)
		case <-round.C:
			round.Begun()
			askAll()
		case <-states.C:
			states.Begun()
			v.reportStates(&reporting)
		case <-ctx.Done():
			return
		}
	}
}

// verifyLocal asks our own server for every hostname of a site in a hosted zone, or for those that are not known to be right.
func (v *Verifier) verifyLocal(ctx context.Context, siteID int64, every bool) {
	p, ok := v.record.Site(siteID)
	if !ok || v.Servers().Name == "" {
		return
	}
	for _, h := range p.Hostnames {
		known := v.names.of(h.ID)
		if v.record.Zone(h.ZoneID).Kind == names.Remote || !every && known.asked && known.given == p.AnswerOf(h) {
			continue
		}
		var given wan.Pair
		var err error
		if every {
			given, err = v.local.Addresses(ctx, h.Name)
		} else {
			given, err = v.local.Changed(ctx, h.Name, p.AnswerOf(h))
		}
		v.noteGiven(ctx, siteID, h, known, server{v.Servers().Name, dnsask.Authoritative}, given, err)
	}
	v.noteAnswered(p)
}

// verifyRemote asks the servers of others: the primaries of remote zones, secondaries and resolvers.
func (v *Verifier) verifyRemote(ctx context.Context, siteID int64, every bool) {
	p, ok := v.record.Site(siteID)
	if !ok || v.Servers().Name == "" {
		return
	}
	remote := false
	for _, h := range p.Hostnames {
		z, known := v.record.Zone(h.ZoneID), v.names.of(h.ID)
		if z.Kind != names.Remote || !z.Pushing || !every && known.asked && known.given == p.AnswerOf(h) {
			continue
		}
		remote = true
		primary := z.Primary.String()
		if !v.asking.enter(primary) { // enough questions wait for it
			time.AfterFunc(recheckAfter, func() { v.Ask(siteID) })
			continue
		}
		if err := v.host.Repair(ctx, z, h); err != nil && ctx.Err() == nil {
			v.log.Debug("a primary could not be asked", "zone", z.Apex, "error", err)
		}
		given, err := dnsask.Addresses(ctx, primary, dnsask.Authoritative, h.Name)
		v.asking.leave(primary)
		v.noteGiven(ctx, siteID, h, known, server{primary, dnsask.Authoritative}, given, err)
	}
	if remote {
		v.noteAnswered(p)
	}
	// or that move brings its own question
	if current, ok := v.record.Site(siteID); ok && len(p.Hostnames) > 0 && sameAddresses(p, current) {
		v.verifyElsewhere(ctx, p, every)
	}
}

// noteGiven notes what a server gave for a hostname, and asks it for the hostname's aliases.
func (v *Verifier) noteGiven(ctx context.Context, siteID int64, h site.Hostname, known nameState, at server, given wan.Pair, err error) {
	for _, a := range v.aliasesOf(siteID) {
		if a.HostnameID == h.ID && err == nil {
			v.askAlias(ctx, a, at)
		}
	}
	if err != nil {
		if ctx.Err() == nil {
			v.log.Warn("a name could not be verified", "name", h.Name, "error", err)
		}
		return
	}
	v.names.set(h.ID, func(s *nameState) {
		if s.published.Equal(known.published) { // or else it is the answer from before a change that was made meanwhile
			s.given, s.asked = given, true
		}
	})
}

// noteAnswered marks the open moves of a site as answered where all of its hostnames are.
func (v *Verifier) noteAnswered(p record.Site) {
	now := v.now()
	current, ok := v.record.Site(p.ID)
	if !ok || len(p.Hostnames) == 0 || !sameAddresses(p, current) {
		return // it moved while we asked; that move brings its own question
	}
	for _, h := range p.Hostnames {
		if known := v.names.of(h.ID); !known.asked || known.given != p.AnswerOf(h) {
			return
		}
	}
	v.host.Answered(p.ID, now)
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
