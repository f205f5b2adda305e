package probing

import (
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// hurry makes a watch due now, or in its turn if thousands are in a hurry. The caller holds p.mu.
func (p *Prober) hurry(w *watch) {
	now := p.Ticks()
	if w.place < 0 {
		w.again = true
		return
	}
	if w.due = p.burst.Turn(now); w.due.After(now.Add(interval(*w.service))) {
		w.due = now.Add(interval(*w.service))
	}
	p.queue.Fix(w.place)
	p.rouse()
}

// HurryFailing has those of some services probed soon whose newest round was not as wanted.
func (p *Prober) HurryFailing(list []site.Service) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range list {
		if w := p.watches[s.ID]; w != nil && s.RuleAt(p.Now()).Meaning(w.View.Outcome) == probe.NotWanted {
			p.hurry(w)
		}
	}
}

// Hurry has a service probed soon, by its name too: somebody waits for it.
func (p *Prober) Hurry(serviceID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		w.nameDue = time.Time{}
		p.hurry(w)
	}
}
