package probing

import (
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/store"
)

// SetStates takes over judged states from the database: this server's own from before a restart, or another server's.
func (p *Prober) SetStates(list []store.ServiceState) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range list {
		if w := p.watches[s.ServiceID]; w != nil {
			st := w.Status()
			st.State, st.Since, st.Proven = s.State, s.Since, s.Proven
			w.SetStatus(st)
		}
	}
}

// Show takes over what another server knows of a service.
func (p *Prober) Show(serviceID int64, st seen.Status, results []seen.Result) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		w.SetStatus(st)
		w.SetResults(results)
	}
}

// ShowUnfit takes over which vantage points do not count for another server.
func (p *Prober) ShowUnfit(unfit map[int64]string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.unfit = unfit
}
