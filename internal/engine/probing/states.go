package probing

import "inkpost.example/inkpost/internal/store"

// SetStates takes over judged states from the database: this server's own from before a restart, or another server's.
func (p *Prober) SetStates(list []store.ServiceState) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range list {
		if w := p.watches[s.ServiceID]; w != nil {
			w.State, w.Since, w.Proven = s.State, s.Since, s.Proven
		}
	}
}
