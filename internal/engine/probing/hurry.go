package probing

import "time"

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

// Again has a service probed soon.
func (p *Prober) Again(serviceID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		p.hurry(w)
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
