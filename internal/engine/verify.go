package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
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
func (e *Engine) judge(p premises, h site.Hostname, now time.Time) names.State {
	want, known := p.answerOf(h), e.names.of(h.ID)
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

// runVerify asks the zone's server for names that changed, at once, and for all names at intervals.
func (e *Engine) runVerify(ctx context.Context) {
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(8)
	defer func() { _ = group.Wait(); e.home.Close() }()
	round := time.NewTicker(e.config.VerifyEvery)
	defer round.Stop()
	states := time.NewTicker(time.Second)
	defer states.Stop()
	var under inquiries
	ask := func(id int64, every bool) {
		if under.begin(id, every) {
			group.Go(func() error {
				var pause time.Duration // a site that goes on moving is asked for at a pace, not once a move
				for {
					every, more := under.next(id)
					if !more || gctx.Err() != nil {
						return nil
					}
					select {
					case <-time.After(pause):
					case <-gctx.Done():
					}
					began := time.Now()
					e.verify(gctx, id, every)
					pause = min(max(verifyPause, 31*time.Since(began)), verifyPauseMost)
				}
			})
		}
	}
	askAll := func() {
		for _, p := range e.record.all() {
			ask(p.ID, true)
		}
	}
	askAll()
	for {
		select {
		case id := <-e.recheck:
			ask(id, false)
		case <-round.C:
			askAll()
		case <-states.C:
			e.reportNames()
		case <-ctx.Done():
			return
		}
	}
}

// verifyPause is the least time between two inquiries about one site, and verifyPauseMost the longest; between them it is such
// that inquiries take a 32nd of the time. The first after a move waits for nothing.
const (
	verifyPause     = 20 * time.Millisecond
	verifyPauseMost = 500 * time.Millisecond
)

// inquiries are the sites that are being asked for. One that has to be asked for again meanwhile is, once, whatever came up
// how often.
type inquiries struct {
	mu   sync.Mutex
	open map[int64]inquiry
}

// inquiry is what is still to be asked of a site: nothing, what is not known to be right, or every name.
type inquiry struct{ due, every bool }

// begin notes that a site has to be asked for, and says whether nobody is at it.
func (q *inquiries) begin(siteID int64, every bool) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.open == nil {
		q.open = map[int64]inquiry{}
	}
	now, running := q.open[siteID]
	q.open[siteID] = inquiry{due: true, every: every || now.every}
	return !running
}

// next takes what is to be asked; more is false where that is nothing, and the site is left.
func (q *inquiries) next(siteID int64) (every, more bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	now := q.open[siteID]
	if !now.due {
		delete(q.open, siteID)
		return false, false
	}
	q.open[siteID] = inquiry{}
	return now.every, true
}

// verify asks for every hostname of a site, or for those that are not known to be right. Where all of them are, its open
// moves have been answered.
func (e *Engine) verify(ctx context.Context, siteID int64, every bool) {
	p, ok := e.record.site(siteID)
	if !ok || e.config.NameServer == "" {
		return
	}
	right := 0
	for _, h := range p.hostnames {
		known := e.names.of(h.ID)
		if !every && known.asked && known.given == p.answerOf(h) {
			right++
			continue
		}
		server := e.config.NameServer
		if z := e.record.zone(h.ZoneID); z.Kind == names.Remote {
			server = z.Primary.String()
			if !z.Pushing {
				continue
			}
			if err := e.repair(ctx, z, h); err != nil && ctx.Err() == nil {
				e.log.Debug("a primary could not be asked", "zone", z.Apex, "error", err)
			}
		}
		var given wan.Pair
		var err error
		switch {
		case server == e.config.NameServer && every:
			given, err = e.home.Addresses(ctx, h.Name)
		case server == e.config.NameServer:
			given, err = e.home.Changed(ctx, h.Name, p.answerOf(h))
		default:
			given, err = dnsask.Addresses(ctx, server, dnsask.Authoritative, h.Name)
		}
		for _, a := range e.aliasesOf(siteID) {
			if a.HostnameID == h.ID {
				e.askAlias(ctx, a, place{server, dnsask.Authoritative})
			}
		}
		if err != nil {
			if ctx.Err() == nil {
				e.log.Warn("a name could not be verified", "name", h.Name, "error", err)
			}
			continue
		}
		e.names.set(h.ID, func(s *nameState) {
			if s.published.Equal(known.published) { // or else it is the answer from before a change that was made meanwhile
				s.given, s.asked = given, true
			}
		})
		if given == p.answerOf(h) {
			right++
		}
	}
	now := e.now()
	if len(p.hostnames) == 0 {
		return
	}
	if current, ok := e.record.site(siteID); !ok || !sameAddresses(p, current) {
		return // it moved while we asked; that move brings its own question
	}
	if right == len(p.hostnames) {
		for _, id := range e.moves.answered(siteID) {
			e.unsettled.reached(store.Stages{MoveID: id, Answered: now})
		}
	}
	e.verifyElsewhere(ctx, p, every)
}

func sameAddresses(a, b premises) bool {
	if len(a.links) != len(b.links) {
		return false
	}
	for i := range a.links {
		if a.links[i].Addresses() != b.links[i].Addresses() {
			return false
		}
	}
	return true
}

// reportNames tells of hostnames whose state is another than at the last report.
func (e *Engine) reportNames() {
	now := e.now()
	for _, p := range e.record.all() {
		for _, h := range p.hostnames {
			state := e.judge(p, h, now)
			before := e.names.of(h.ID).state
			if state == before {
				continue
			}
			e.names.set(h.ID, func(s *nameState) { s.state = state })
			if before != "" || state == names.StateStale {
				e.Events.Publish(contract.EventHostnameState, p.Code, string(h.Name), fmt.Sprintf("%s is %s", h.Name, state))
			}
			e.faults.review(p.ID)
		}
	}
}
