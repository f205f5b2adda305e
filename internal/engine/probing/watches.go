package probing

import (
	"context"
	"math/rand/v2"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
)

// Apply makes the watches follow a change of the record.
func (p *Prober) Apply(d record.Diff) { p.apply(d, false) }

// watch is one service under observation.
type watch struct {
	service *site.Service // as it is in the record; never changed in place
	due     seen.Instant
	nameDue seen.Instant       // when the way by the hostname is tried next
	cancel  context.CancelFunc // ends the probe under way
	beside  *watch             // whose failure had this one looked at last
	place   int32              // in the queue; -1 while a probe is under way
	again   bool               // due at once when the probe under way ends
	seen.Kept
}

// DueAt implements pace.Item.
func (w *watch) DueAt() time.Time { return w.due.Time() }

// PutAt implements pace.Item.
func (w *watch) PutAt(place int) { w.place = int32(place) }

// unstepped returns a clock that tells the same as ticks, and stays as steady where only the time of day is kept of what it tells.
func unstepped(ticks func() time.Time) func() time.Time {
	start := ticks()
	return func() time.Time { return start.Round(0).Add(ticks().Sub(start)) }
}

// apply makes the watches follow a change of the record. At the start services are due within their first interval; one that is
// added or edited later is due at once: somebody is waiting for it.
func (p *Prober) apply(d record.Diff, starting bool) {
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
func (p *Prober) watch(s *site.Service, starting bool) {
	w := p.watches[s.ID]
	if w == nil {
		w = &watch{service: s}
		w.SetStatus(seen.Status{State: probe.StateUnknown, Since: p.Now()})
		due := p.Ticks()
		if starting {
			due = pace.First(due, interval(*s), rand.Float64())
		}
		w.due = seen.At(due)
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
	before.InUse = s.InUse
	if before != *s { // another thing to probe: what was seen is about the old one
		st := w.Status()
		st.View, st.Shown = probe.View{}, nil
		w.SetStatus(st)
		w.SetResults(nil)
	}
	p.hurry(w)
}

// unwatch forgets a service that is no longer on record. The caller holds p.mu.
func (p *Prober) unwatch(id int64) {
	w := p.watches[id]
	if w == nil {
		return
	}
	if w.place >= 0 {
		p.queue.Remove(int(w.place))
	}
	delete(p.watches, id)
}

// Pinned updates a watch's pinned fingerprint, keeping its state; again probes the service at once.
func (p *Prober) Pinned(s site.Service, again bool) {
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
