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

// Hurry has a service probed soon, by its name too where somebody waits for it.
func (p *Prober) Hurry(serviceID int64, byName bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		if byName {
			w.nameDue = time.Time{}
		}
		p.hurry(w)
	}
}
