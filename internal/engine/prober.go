package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/semaphore"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// prober probes every service at its pace from this server's vantage point, and judges them by what all vantage points see.
type prober struct {
	e    *Engine
	own  int64 // ID of this server's vantage point
	room int64 // how many attempts may be under way

	mu      sync.Mutex
	watches map[int64]*watch
	queue   pace.Queue[*watch]
	busy    map[netip.Addr]int // attempts under way, by target
	burst   pace.Burst
	unfit   map[int64]string // vantage points whose views do not count at present, and why
	wake    chan struct{}
	slots   *semaphore.Weighted

	book   *book
	doors  doorKeeper
	counts probeCounts
}

// watch is one service under observation.
type watch struct {
	service *site.Service // as it is in the record; never changed in place
	due     time.Time
	place   int                // in the queue; -1 while a probe is under way
	again   bool               // due at once when the probe under way ends
	cancel  context.CancelFunc // ends the probe under way
	views   []view             // of each vantage point
	nameDue time.Time          // when the way by the hostname is tried next
	standing
}

// DueAt implements pace.Dated.
func (w *watch) DueAt() time.Time { return w.due }

// PutAt implements pace.Dated.
func (w *watch) PutAt(place int) { w.place = place }

// view is what one vantage point last saw of a service.
type view struct {
	vantage int64
	probe.View
	latency time.Duration
	said    string
	left    string // why it does not count
	known   bool   // the service has answered it before
}

// standing is what is known of a service now.
type standing struct {
	state   probe.State
	since   time.Time
	view    probe.View // that explains the state
	probed  time.Time
	turned  time.Time // since when the outcome has had the same meaning
	address netip.Addr
	latency time.Duration
	said    string
	shown   *showing
}

// showing is what a service last showed of itself. It is not changed in place.
type showing struct {
	fingerprint string
	loose       string
	certificate *contract.CertificateView
	named       *contract.NameWay
}

func newProber(ctx context.Context, e *Engine, vantage int64) (*prober, error) {
	room := int64(e.config.Attempts)
	if room == 0 {
		room = int64(pace.MostAtOnce(openFiles()))
	}
	p := &prober{e: e, own: vantage, room: room, watches: map[int64]*watch{}, wake: make(chan struct{}, 1), slots: semaphore.NewWeighted(room),
		busy: map[netip.Addr]int{}, unfit: map[int64]string{}, book: newBook()}
	p.doors.closed = map[int64]closedDoor{}
	spans, err := e.store.NewestSpans(ctx)
	if err != nil {
		return nil, err
	}
	standings, err := e.store.Standings(ctx)
	if err != nil {
		return nil, err
	}
	today, err := e.store.Today(ctx, e.now())
	if err != nil {
		return nil, err
	}
	p.book.resume(today)
	p.sync(true)
	for _, s := range standings {
		if w := p.watches[s.ServiceID]; w != nil {
			w.state, w.since = s.State, s.Since
		}
	}
	for _, s := range spans {
		w := p.watches[s.ServiceID]
		if w == nil {
			continue
		}
		p.book.newest[seenFrom{s.ServiceID, s.VantageID}] = s
		v := view{vantage: s.VantageID, known: s.Outcome.Open(), View: probe.View{Outcome: s.Outcome, InRow: int(s.Count), Since: s.From, At: s.Until}}
		w.views = append(w.views, v)
		if s.VantageID == vantage {
			w.view, w.probed, w.turned = v.View, s.Until, s.From
		}
	}
	return p, nil
}

// openFiles is how many file descriptors the process may have.
func openFiles() uint64 {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 1024
	}
	return limit.Cur
}

// sync takes over the services on record. At the start they are due within their first interval; one that is added or
// edited later is due at once: somebody is waiting for it.
func (p *prober) sync(starting bool) {
	now, ticks := p.e.now(), p.e.ticks()
	p.mu.Lock()
	defer p.mu.Unlock()
	gone := make(map[int64]bool, len(p.watches))
	for id := range p.watches {
		gone[id] = true
	}
	for _, site := range p.e.record.all() {
		for i := range site.services {
			s := &site.services[i]
			delete(gone, s.ID)
			w := p.watches[s.ID]
			if w == nil {
				w = &watch{service: s, standing: standing{state: probe.StateUnknown, since: now}}
				w.due = ticks
				if starting {
					w.due = pace.First(ticks, interval(*s), rand.Float64())
				}
				p.watches[s.ID] = w
				p.queue.Add(w)
				continue
			}
			before := *w.service
			w.service = s
			if before == *s {
				continue
			}
			if w.cancel != nil && before.Revision != s.Revision {
				w.cancel() // what comes back would be about the revision before
			}
			before.Fingerprint, before.Pinned, before.PinnedBy, before.Revision = s.Fingerprint, s.Pinned, s.PinnedBy, s.Revision
			if before != *s { // another thing to probe: what was seen is about the old one
				w.views, w.view, w.shown = nil, probe.View{}, nil
			}
			p.hurry(w)
		}
	}
	for id := range gone {
		if w := p.watches[id]; w.place >= 0 {
			p.queue.Remove(w.place)
		}
		delete(p.watches, id)
		p.book.forget(id)
	}
	p.rouse()
}

// recognise takes over what a service is recognised by, without forgetting what is known of it; again has it probed at once.
func (p *prober) recognise(s site.Service, again bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[s.ID]; w != nil {
		next := *w.service
		next.Fingerprint, next.Pinned, next.PinnedBy, next.Revision = s.Fingerprint, s.Pinned, s.PinnedBy, s.Revision
		w.service = &next
		if again {
			p.hurry(w)
		}
	}
}

// hurry makes a watch due now, or as soon as its turn comes where thousands are in a hurry. The caller holds p.mu.
func (p *prober) hurry(w *watch) {
	now := p.e.ticks()
	if w.place < 0 {
		w.again = true
		return
	}
	if w.due = p.burst.Turn(now); w.due.After(now.Add(interval(*w.service))) {
		w.due = now.Add(interval(*w.service))
	}
	p.queue.Moved(w.place)
	p.rouse()
}

func (p *prober) rouse() {
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

func interval(s site.Service) time.Duration { return time.Duration(s.Interval) * time.Second }

// moved probes the services of a site that follow a link at once: at its new address nothing is proven.
func (p *prober) moved(where premises, linkID int64) {
	p.doors.open(linkID)
	if len(where.services) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.services {
		if l, ok := where.followed(s.LinkID); !ok || l.ID != linkID {
			continue
		}
		if w := p.watches[s.ID]; w != nil {
			for i := range w.views {
				w.views[i].InRow = 0
			}
			w.view.InRow, w.nameDue = 0, time.Time{}
			p.hurry(w)
			if w.cancel != nil {
				w.cancel() // it is on its way to where the site no longer is
			}
		}
	}
	p.e.posts.touch(where.ID)
}

// hurryOn probes the services of a link at once, without forgetting what is known of them.
func (p *prober) hurryOn(where premises, linkID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.services {
		if l, ok := where.followed(s.LinkID); ok && l.ID == linkID && p.watches[s.ID] != nil {
			p.hurry(p.watches[s.ID])
		}
	}
}

// provenOn gives when a service was last reached through a link: at its address, whatever it follows now.
func (p *prober) provenOn(linkID int64) (newest time.Time) {
	where, l, ok := p.e.record.ofLink(linkID)
	if !ok {
		return newest
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.services {
		if w := p.watches[s.ID]; w != nil && w.address.IsValid() && w.address == target(l) && w.view.Outcome.Good() && w.probed.After(newest) {
			newest = w.probed
		}
	}
	return newest
}

// expectedOn gives the services whose answer confirms a move of the link: those that answered before, or were never tried.
func (p *prober) expectedOn(where premises, linkID int64) map[int64]bool {
	return p.awaited(where, linkID, func(s probe.State) bool { return s == probe.StateReachable || s == probe.StateUnknown })
}

// triedOn gives those of expectedOn that answered before: what was never tried may have been put on record since the move.
func (p *prober) triedOn(where premises, linkID int64) map[int64]bool {
	return p.awaited(where, linkID, func(s probe.State) bool { return s == probe.StateReachable })
}

func (p *prober) awaited(where premises, linkID int64, awaits func(probe.State) bool) map[int64]bool {
	if len(where.services) == 0 {
		return nil
	}
	now := p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[int64]bool{}
	for _, s := range where.services {
		l, follows := where.followed(s.LinkID)
		w := p.watches[s.ID]
		if !follows || l.ID != linkID || s.ExpectedAt(now) != probe.ExpectReachable || s.Mute() || w == nil {
			continue
		}
		if awaits(w.state) {
			out[s.ID] = true
		}
	}
	return out
}

func (p *prober) standing(serviceID int64) standing {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		return w.standing
	}
	return standing{state: probe.StateUnknown}
}

func (p *prober) views(serviceID int64) []view {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		return slices.Clone(w.views)
	}
	return nil
}

// weight is how many attempts a round of a service has under way at most.
func weight(s site.Service) int64 {
	return int64(min((s.ExternalTo-s.ExternalFrom+1)*len(s.Transport.Each()), pace.MostAtTarget))
}

// run starts probes as they come due.
func (p *prober) run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for ctx.Err() == nil {
		w, n, at, wait := p.next()
		if w == nil {
			timer.Reset(wait)
			select {
			case <-timer.C:
			case <-p.wake:
			case <-ctx.Done():
			}
			continue
		}
		if p.slots.Acquire(ctx, n) != nil {
			return
		}
		wg.Go(func() {
			defer p.slots.Release(n)
			p.probe(ctx, w, at, n)
		})
	}
}

// targetWait is how long a round waits where enough others are under way at its target.
const targetWait = 100 * time.Millisecond

// next takes the first watch that is due and whose target has room, with its weight, or says how long there is none.
func (p *prober) next() (w *watch, n int64, at netip.Addr, wait time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.queue.Len() > 0 {
		now := p.e.ticks()
		w := p.queue.First()
		if wait := w.due.Sub(now); wait > 0 {
			return nil, 0, at, wait
		}
		if where, ok := p.e.record.site(w.service.SiteID); ok {
			l, _ := where.followed(w.service.LinkID)
			at = target(l)
		}
		n := weight(*w.service)
		if at.IsValid() && p.busy[at] > 0 && p.busy[at]+int(n) > pace.MostAtTarget {
			w.due = now.Add(targetWait)
			p.queue.Moved(0)
			continue
		}
		p.counts.late(now.Sub(w.due))
		p.queue.Take()
		if at.IsValid() {
			p.busy[at] += int(n)
		}
		return w, n, at, 0
	}
	return nil, 0, at, time.Minute
}

// probe makes one round of a watch, which has room for n attempts at its target, and puts it back into the queue.
func (p *prober) probe(ctx context.Context, w *watch, at netip.Addr, n int64) {
	p.mu.Lock()
	s := *w.service
	one, cancel := context.WithCancel(ctx)
	w.cancel = cancel
	byName := !p.e.ticks().Before(w.nameDue)
	p.mu.Unlock()
	defer cancel()
	r := p.e.attempt(one, s, byName)
	confirm := time.Time{}
	if ctx.Err() == nil {
		confirm = p.take(w, p.own, r)
	}
	now, wall := p.e.ticks(), p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	if at.IsValid() {
		if p.busy[at] -= int(n); p.busy[at] <= 0 { // as many as were counted: the range may be another by now
			delete(p.busy, at)
		}
	}
	if p.watches[s.ID] != w {
		return // removed meanwhile
	}
	w.cancel = nil
	if r.named != nil {
		w.nameDue = now.Add(pace.ByName(interval(*w.service)))
	}
	if w.due = now.Add(max(0, confirm.Sub(wall))); confirm.IsZero() {
		w.due = pace.Next(now, interval(*w.service), rand.Float64())
	}
	if w.again {
		w.due, w.again = now, false
	}
	p.queue.Add(w)
	p.rouse()
}

// takeOutOfTurn takes a round in that was made outside the queue.
func (p *prober) takeOutOfTurn(serviceID int64, r round) {
	p.mu.Lock()
	w := p.watches[serviceID]
	p.mu.Unlock()
	if w == nil || p.take(w, p.own, r).IsZero() {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hurry(w)
}

// take draws the conclusions from a round of one vantage point. It says when the result has to be confirmed; never, where
// the time is zero.
func (p *prober) take(w *watch, vantage int64, r round) (confirm time.Time) {
	p.mu.Lock()
	s := *w.service
	if s.ID != r.service.ID || p.watches[s.ID] != w {
		p.mu.Unlock()
		return confirm
	}
	if s.Revision != r.service.Revision { // it is about what was there before an edit
		w.again = w.again || vantage == p.own
		p.mu.Unlock()
		return confirm
	}
	var l site.Link
	if where, ok := p.e.record.site(s.SiteID); ok {
		if l, _ = where.followed(s.LinkID); r.address != target(l) {
			w.again = w.again || vantage == p.own // the link moved while we probed: what came back is about somebody else
			p.mu.Unlock()
			return confirm
		}
	}
	p.counts.outcome(s.Kind, r.outcome)
	every := interval(s)
	result := ledger.Result{ServiceID: s.ID, VantageID: vantage, Outcome: r.outcome, At: r.at, Latency: r.latency}
	if r.held { // nobody was asked: what is known stands
		p.mu.Unlock()
		p.book.add(result, ledger.Gap(every), s.ExpectedAt(r.at), probe.StateUnknown)
		return confirm
	}
	rule := s.RuleAt(r.at)
	if r.left == "" && unknownPeer(s, vantage, p.own, w.views, r.outcome) {
		r.left = unknownPeerWords
	}
	before := w.standing
	i := slices.IndexFunc(w.views, func(v view) bool { return v.vantage == vantage })
	if i < 0 {
		i = len(w.views)
		w.views = append(w.views, view{vantage: vantage})
	}
	was := w.views[i]
	v := was
	v.View, v.latency, v.said, v.left = rule.Next(v.View, r.outcome, r.at), r.latency, r.said, r.left
	v.known = v.known || r.outcome.Open()
	w.views[i] = v
	if vantage == p.own {
		w.probed, w.address = r.at, r.address
	}
	w.judge(rule, p.unfit, r.at)
	if r.fingerprint != "" || r.certificate != nil || r.named != nil || r.loose != "" || w.shown != nil {
		next := showing{}
		if w.shown != nil {
			next = *w.shown
		}
		if r.outcome.Open() {
			next.fingerprint = r.fingerprint
		}
		if r.outcome.Open() && vantage == p.own { // others return fingerprints only
			next.certificate, next.loose = r.certificate, r.loose
		}
		if r.named != nil {
			next.named = r.named
		}
		w.shown = &next
	}
	after := w.standing
	settled := rule.Settled(v.View)
	p.mu.Unlock()

	p.book.add(result, ledger.Gap(every), rule.Expected, before.state)
	p.tell(r, before, after)
	if r.outcome == probe.Stranger && settled {
		p.e.strangerAt(l, s, r)
	}
	if r.outcome == probe.Answered && r.fingerprint != "" && s.Fingerprint == "" && r.left == "" {
		p.e.pinFirst(s, r.fingerprint)
	}
	if rule.Meaning(r.outcome) != probe.NotWanted || r.left != "" {
		return confirm
	}
	if was.InRow == 0 || rule.Meaning(was.Outcome) != probe.NotWanted {
		p.e.posts.confirm(s.ID, vantage) // from elsewhere, too
		if vantage != p.own {
			p.mu.Lock()
			p.hurry(w)
			p.mu.Unlock()
		}
	}
	if settled {
		return confirm
	}
	return pace.Confirm(r.at, v.Since, v.InRow, probe.Confirmations, every)
}

// unknownPeerWords is why the silence of a WireGuard server says nothing to a vantage point that it never answered.
const unknownPeerWords = "the server may not know this vantage point's key: add that as a peer"

// unknownPeer reports whether silence is what a WireGuard server owes a vantage point whose key it does not know. Each has its own.
func unknownPeer(s site.Service, vantage, own int64, views []view, o probe.Outcome) bool {
	if s.Kind != probe.KindWireGuard || s.ProbeKey == "" || vantage == own || o != probe.Silent {
		return false
	}
	i := slices.IndexFunc(views, func(v view) bool { return v.vantage == vantage })
	return i < 0 || !views[i].known
}

// judge brings a watch's state in line with its views. Where every view is left out, the state stays until it is too old. The
// caller holds the lock.
func (w *watch) judge(rule probe.Rule, unfit map[int64]string, now time.Time) {
	counted := make([]probe.View, 0, 4)
	leftOut := false
	for _, v := range w.views {
		if v.left == "" && unfit[v.vantage] == "" {
			counted = append(counted, v.View)
		} else if v.left == "" {
			leftOut = leftOut || rule.Stale == 0 || now.Sub(v.Since) < rule.Stale
		}
	}
	state := probe.Verdict(rule, w.state, counted, now)
	if state == probe.StateUnknown && leftOut {
		state = w.state
	}
	if state != w.state {
		w.state, w.since = state, now
	}
	best := probe.Representative(rule, w.state, counted)
	if len(counted) == 0 && len(w.views) > 0 {
		best = w.views[0].View
	}
	w.view, w.turned = best, best.Since
	for _, v := range w.views {
		if v.View == best {
			w.latency, w.said = v.latency, v.said
		}
	}
}

// tell lets everybody know of what a round has changed.
func (p *prober) tell(r round, before, after standing) {
	s := r.service
	asExpected := probe.AsExpected(s.ExpectedAt(r.at), after.state)
	if after.view.Outcome != before.view.Outcome {
		p.e.Events.Publish(contract.EventServiceOutcome, r.site, s.Name, fmt.Sprintf("%s %s is %s", s.Name, r.target(), after.view.Outcome))
	}
	if after.state != before.state {
		p.book.standing(store.Standing{ServiceID: s.ID, State: after.state, Since: after.since})
		p.e.Events.Publish(contract.EventServiceState, r.site, s.Name, fmt.Sprintf("%s went from %s to %s", s.Name, probe.Words(s.ExpectedAt(r.at), before.state, false), probe.Words(s.ExpectedAt(r.at), after.state, false)))
	}
	if (after.view.InRow == 1 || after.state != before.state) && !asExpected && !s.Mute() {
		p.e.lookSoon(s.SiteID) // from inside it may look otherwise
	}
	if after.state != before.state || after.view.Outcome != before.view.Outcome {
		p.e.faults.review(s.SiteID)
	}
	if asExpected && r.outcome.Good() {
		if id, done := p.e.moves.confirmed(r.linkID, s.ID); done {
			p.e.unsettled.reached(store.Stages{MoveID: id, Confirmed: r.at})
		}
	}
}
