package engine

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
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
	ways    []contract.ServiceWay // what the newest round of ours found over each way
	// settling says that the newest result may be about an address that is no longer the site's.
	settling bool
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
		room = int64(pace.MostAtOnce(0))
	}
	p := &prober{e: e, own: vantage, room: room, watches: map[int64]*watch{}, wake: make(chan struct{}, 1), slots: semaphore.NewWeighted(room),
		busy: map[netip.Addr]int{}, unfit: map[int64]string{}}
	p.doors.closed = map[int64]closedDoor{}
	spans, err := e.store.NewestSpans(ctx)
	if err != nil {
		return nil, err
	}
	standings, err := e.store.ServiceStates(ctx)
	if err != nil {
		return nil, err
	}
	var all record.Diff
	for _, where := range e.record.Sites() {
		all.Sites = append(all.Sites, record.SiteChange{After: where})
	}
	p.apply(all, true)
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
		e.history.Begin(s)
		v := view{vantage: s.VantageID, known: s.Outcome.Open(), View: probe.View{Outcome: s.Outcome, InRow: int(s.Count), Since: s.From, At: s.Until}}
		w.views = append(w.views, v)
		if s.VantageID == vantage {
			w.view, w.probed, w.turned = v.View, s.Until, s.From
		}
	}
	return p, nil
}

// apply makes the watches follow a change of the record. At the start services are due within their first interval; one that is
// added or edited later is due at once: somebody is waiting for it.
func (p *prober) apply(d record.Diff, starting bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range d.Sites {
		there := make(map[int64]bool, len(c.After.Services))
		for i := range c.After.Services {
			there[c.After.Services[i].ID] = true
			p.watch(&c.After.Services[i], starting)
		}
		for _, s := range c.Before.Services {
			if !there[s.ID] {
				p.unwatch(s.ID)
			}
		}
	}
	p.rouse()
}

// watch takes a service under observation, or takes over what was edited of it. The caller holds p.mu.
func (p *prober) watch(s *site.Service, starting bool) {
	w := p.watches[s.ID]
	if w == nil {
		w = &watch{service: s, standing: standing{state: probe.StateUnknown, since: p.e.now()}}
		w.due = p.e.ticks()
		if starting {
			w.due = pace.First(w.due, interval(*s), rand.Float64())
		}
		p.watches[s.ID] = w
		p.queue.Add(w)
		return
	}
	before := *w.service
	w.service = s
	if before == *s {
		return
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

// unwatch forgets a service that is no longer on record. The caller holds p.mu.
func (p *prober) unwatch(id int64) {
	w := p.watches[id]
	if w == nil {
		return
	}
	if w.place >= 0 {
		p.queue.Remove(w.place)
	}
	delete(p.watches, id)
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
		if where, ok := p.e.record.Site(w.service.SiteID); ok {
			l, _ := where.Followed(w.service.LinkID)
			at = where.TargetOf(*w.service, l)
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
