package probing

import "inkpost.example/inkpost/internal/engine/probing/seen"

// hurry makes a watch due now, or in its turn if thousands are in a hurry. The caller holds p.mu.
func (p *Prober) hurry(w *watch) {
	now := p.Ticks()
	if w.place < 0 {
		w.again = true
		return
	}
	due := p.burst.Turn(now)
	if last := now.Add(interval(*w.service)); due.After(last) {
		due = last
	}
	w.due = seen.At(due)
	p.queue.Fix(int(w.place))
	p.rouse()
}

// Hurry has a service probed soon, by its name too where somebody waits for it.
func (p *Prober) Hurry(serviceID int64, byName bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		if byName {
			w.nameDue = 0
		}
		p.hurry(w)
	}
}
