package engine

import (
	"container/heap"
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// atOnce is how many service ports are probed at the same time.
const atOnce = 512

// prober probes every service at its pace from this server's vantage point.
type prober struct {
	e       *Engine
	vantage int64

	mu      sync.Mutex
	watches map[int64]*watch
	queue   queue
	wake    chan struct{}
	slots   chan struct{}

	book *book
}

// watch is one service under observation.
type watch struct {
	service site.Service
	due     time.Time
	place   int                // in the queue; -1 while a probe is under way
	again   bool               // due at once when the probe under way ends
	cancel  context.CancelFunc // ends the probe under way
	standing
}

// standing is what is known of a service now.
type standing struct {
	state   probe.State
	since   time.Time
	view    probe.View
	probed  time.Time
	turned  time.Time // since when the outcome has had the same meaning
	address netip.Addr
	latency time.Duration
}

func newProber(ctx context.Context, e *Engine, vantage int64) (*prober, error) {
	p := &prober{e: e, vantage: vantage, watches: map[int64]*watch{}, wake: make(chan struct{}, 1), slots: make(chan struct{}, atOnce),
		book: newBook()}
	spans, err := e.store.NewestSpans(ctx)
	if err != nil {
		return nil, err
	}
	standings, err := e.store.Standings(ctx)
	if err != nil {
		return nil, err
	}
	p.sync(true)
	for _, s := range standings {
		if w := p.watches[s.ServiceID]; w != nil {
			w.state, w.since = s.State, s.Since
		}
	}
	for _, s := range spans {
		if w := p.watches[s.ServiceID]; w != nil && s.VantageID == vantage {
			p.book.newest[s.ServiceID] = s
			w.view, w.probed = probe.View{Outcome: s.Outcome, InRow: int(s.Count)}, s.Until
		}
	}
	return p, nil
}

// sync takes over the services on record. At the start they are due within their first interval; one that is added or
// edited later is due at once: somebody is waiting for it.
func (p *prober) sync(starting bool) {
	now := p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	gone := make(map[int64]bool, len(p.watches))
	for id := range p.watches {
		gone[id] = true
	}
	for _, site := range p.e.record.all() {
		for _, s := range site.services {
			delete(gone, s.ID)
			w := p.watches[s.ID]
			switch {
			case w == nil:
				w = &watch{service: s, standing: standing{state: probe.StateUnknown, since: now}}
				w.due = now
				if starting {
					w.due = pace.First(now, interval(s), rand.Float64())
				}
				p.watches[s.ID] = w
				heap.Push(&p.queue, w)
			case w.service != s:
				w.service, w.view = s, probe.View{}
				p.hurry(w, now)
			}
		}
	}
	for id := range gone {
		if w := p.watches[id]; w.place >= 0 {
			heap.Remove(&p.queue, w.place)
		}
		delete(p.watches, id)
		p.book.forget(id)
	}
	p.rouse()
}

// hurry makes a watch due now. The caller holds p.mu.
func (p *prober) hurry(w *watch, now time.Time) {
	if w.place < 0 {
		w.again = true
		return
	}
	w.due = now
	heap.Fix(&p.queue, w.place)
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
	now := p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.services {
		if l, ok := where.followed(s.LinkID); !ok || l.ID != linkID {
			continue
		}
		if w := p.watches[s.ID]; w != nil {
			w.view.InRow = 0
			p.hurry(w, now)
			if w.cancel != nil {
				w.cancel() // it is on its way to where the site no longer is
			}
		}
	}
}

// hurryOn probes the services of a link at once, without forgetting what is known of them.
func (p *prober) hurryOn(where premises, linkID int64) {
	now := p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.services {
		if l, ok := where.followed(s.LinkID); ok && l.ID == linkID && p.watches[s.ID] != nil {
			p.hurry(p.watches[s.ID], now)
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
func (p *prober) expectedOn(linkID int64) map[int64]bool {
	where, _, ok := p.e.record.ofLink(linkID)
	if !ok {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[int64]bool{}
	for _, s := range where.services {
		l, follows := where.followed(s.LinkID)
		w := p.watches[s.ID]
		if !follows || l.ID != linkID || s.Expected != probe.ExpectReachable || w == nil {
			continue
		}
		if w.state == probe.StateReachable || w.state == probe.StateUnknown {
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

// run starts probes as they come due.
func (p *prober) run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for ctx.Err() == nil {
		w, wait := p.next()
		if w == nil {
			timer.Reset(wait)
			select {
			case <-timer.C:
			case <-p.wake:
			case <-ctx.Done():
			}
			continue
		}
		select {
		case p.slots <- struct{}{}:
		case <-ctx.Done():
			return
		}
		wg.Go(func() {
			defer func() { <-p.slots }()
			p.probe(ctx, w)
		})
	}
}

// next takes the first watch that is due, or says how long there is none.
func (p *prober) next() (*watch, time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.queue) == 0 {
		return nil, time.Minute
	}
	if wait := p.queue[0].due.Sub(p.e.now()); wait > 0 {
		return nil, wait
	}
	w := heap.Pop(&p.queue).(*watch)
	w.place = -1
	return w, 0
}

// probe makes one round of a watch and puts it back into the queue.
func (p *prober) probe(ctx context.Context, w *watch) {
	p.mu.Lock()
	s := w.service
	one, cancel := context.WithCancel(ctx)
	w.cancel = cancel
	p.mu.Unlock()
	defer cancel()
	r := p.e.attempt(one, s)
	confirming := false
	if ctx.Err() == nil {
		confirming = p.take(w, r)
	}
	now := p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.watches[s.ID] != w {
		return // removed meanwhile
	}
	w.cancel = nil
	w.due = pace.Next(now, interval(w.service), confirming, rand.Float64())
	if w.again {
		w.due, w.again = now, false
	}
	heap.Push(&p.queue, w)
	p.rouse()
}

// take draws the conclusions from a round. It says whether the result has to be confirmed fast.
func (p *prober) take(w *watch, r round) (confirming bool) {
	p.mu.Lock()
	s := w.service
	if s.ID != r.service.ID || p.watches[s.ID] != w {
		p.mu.Unlock()
		return false
	}
	if where, ok := p.e.record.site(s.SiteID); ok {
		if l, _ := where.followed(s.LinkID); r.address != target(l) {
			w.again = true // the link moved while we probed: what came back is about somebody else
			p.mu.Unlock()
			return false
		}
	}
	before := w.standing
	w.probed, w.address, w.latency = r.at, r.address, r.latency
	if w.view.InRow > 0 && probe.SameMeaning(s.Expected, w.view.Outcome, r.outcome) {
		w.view.InRow++
	} else {
		w.view.InRow, w.turned = 1, r.at
	}
	w.view.Outcome = r.outcome
	if w.state = probe.Verdict(s.Expected, before.state, []probe.View{w.view}); w.state != before.state {
		w.since = r.at
	}
	after := w.standing
	p.mu.Unlock()

	p.book.add(ledger.Result{ServiceID: s.ID, VantageID: p.vantage, Outcome: r.outcome, At: r.at, Latency: r.latency}, ledger.Gap(interval(s)))
	asExpected := probe.AsExpected(s.Expected, after.state)
	if after.view.Outcome != before.view.Outcome {
		p.e.Events.Publish(contract.EventServiceOutcome, r.site, s.Name, fmt.Sprintf("%s %s is %s", s.Name, r.target(), r.outcome))
	}
	if after.state != before.state {
		p.book.standing(store.Standing{ServiceID: s.ID, State: after.state, Since: after.since})
		p.e.Events.Publish(contract.EventServiceState, r.site, s.Name, fmt.Sprintf("%s went from %s to %s", s.Name, before.state, after.state))
	}
	if after.view.InRow == 1 && !asExpected || after.state != before.state && !asExpected {
		p.e.lookSoon(s.SiteID) // from inside it may look otherwise
	}
	if after.state != before.state || after.view.Outcome != before.view.Outcome {
		p.e.faults.review(s.SiteID)
	}
	if asExpected && r.outcome.Good() {
		if id, done := p.e.moves.confirmed(r.linkID, s.ID); done {
			p.e.reached(store.Stages{MoveID: id, Confirmed: r.at})
		}
	}
	bad := after.view.Outcome != probe.Skipped && !probe.AsExpected(s.Expected, probe.Verdict(s.Expected, probe.StateUnknown, []probe.View{{Outcome: r.outcome, InRow: probe.Confirmations}}))
	return bad && !after.view.Settled()
}

// queue is a heap of watches by due time.
type queue []*watch

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return q[i].due.Before(q[j].due) }
func (q queue) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].place, q[j].place = i, j
}

// Push implements heap.Interface.
func (q *queue) Push(x any) {
	w := x.(*watch)
	w.place = len(*q)
	*q = append(*q, w)
}

// Pop implements heap.Interface.
func (q *queue) Pop() any {
	last := len(*q) - 1
	w := (*q)[last]
	(*q)[last] = nil
	*q = (*q)[:last]
	return w
}
