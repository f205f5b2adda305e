package probing

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
)

// Moved probes the services of a site that follow a link at once: at its new address nothing is proven.
func (p *Prober) Moved(where record.Site, linkID int64) {
	p.quarantine.Lift(linkID)
	if len(where.Services) == 0 {
		return
	}
	p.restart(where, linkID)
	p.host.AssignmentsChanged(where.ID)
}

func (p *Prober) restart(where record.Site, linkID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		if l, ok := where.Followed(s.LinkID); !ok || l.ID != linkID {
			continue
		}
		w := p.watches[s.ID]
		if w == nil {
			continue
		}
		w.StartOver()
		w.nameDue = 0
		p.hurry(w)
		if w.cancel != nil {
			w.cancel() // it is on its way to where the site no longer is
		}
	}
}

// ProbeLink probes the services of a link at once, without forgetting what is known of them.
func (p *Prober) ProbeLink(where record.Site, linkID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		if l, ok := where.Followed(s.LinkID); ok && l.ID == linkID && p.watches[s.ID] != nil {
			p.hurry(p.watches[s.ID])
		}
	}
}

// ProvenOn returns when a service was last reached through a link: at its address, whatever it follows now.
func (p *Prober) ProvenOn(linkID int64) (newest time.Time) {
	where, l, ok := p.record.SiteOfLink(linkID)
	if !ok {
		return newest
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		w := p.watches[s.ID]
		if w == nil {
			continue
		}
		if st := w.Status(); st.Address.IsValid() && st.Address == where.TargetOf(s, l) && st.View.Outcome.Good() &&
			st.Probed.After(newest) {
			newest = st.Probed
		}
	}
	return newest
}

// ExpectedOn lists the services whose answer confirms a move of the link: those that answered before, or were never tried.
func (p *Prober) ExpectedOn(where record.Site, linkID int64) map[int64]bool {
	return p.awaited(where, linkID, func(s probe.State) bool { return s == probe.StateReachable || s == probe.StateUnknown })
}

// TriedOn lists those of ExpectedOn that answered before: what was never tried may have been put on record since the move.
func (p *Prober) TriedOn(where record.Site, linkID int64) map[int64]bool {
	return p.awaited(where, linkID, func(s probe.State) bool { return s == probe.StateReachable })
}

func (p *Prober) awaited(where record.Site, linkID int64, awaits func(probe.State) bool) map[int64]bool {
	if len(where.Services) == 0 {
		return nil
	}
	now := p.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[int64]bool{}
	for _, s := range where.Services {
		l, follows := where.Followed(s.LinkID)
		w := p.watches[s.ID]
		if !follows || l.ID != linkID || s.ExpectedAt(now) != probe.ExpectReachable || s.Mute() || w == nil {
			continue
		}
		if awaits(w.State()) {
			out[s.ID] = true
		}
	}
	return out
}

// Status returns what is known of a service now.
func (p *Prober) Status(serviceID int64) seen.Status {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		return w.Status()
	}
	return seen.Status{State: probe.StateUnknown}
}

// Each calls f with what is known of each of some services, in one hold of the lock: f keeps nothing of it, and asks the prober nothing.
func (p *Prober) Each(list []site.Service, f func(i int, st *seen.Status)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var st seen.Status
	for i := range list {
		st = seen.Status{State: probe.StateUnknown}
		if w := p.watches[list[i].ID]; w != nil {
			st = w.Status()
		}
		f(i, &st)
	}
}

// Results lists what each vantage point last saw of a service.
func (p *Prober) Results(serviceID int64) []seen.Result {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		return w.Results(nil)
	}
	return nil
}

// Unfit lists the vantage points whose results do not count at present, and why. The map must not be changed.
func (p *Prober) Unfit() map[int64]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.unfit
}

// CountResults counts, by vantage point, the services of which a result counts.
func (p *Prober) CountResults() map[int64]int {
	now := p.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[int64]int{}
	var results []seen.Result
	for _, w := range p.watches {
		results = w.Results(results[:0])
		for _, v := range results {
			if v.LeftOut == "" && now.Sub(v.At) <= w.service.RuleAt(now).Stale {
				out[v.Vantage]++
			}
		}
	}
	return out
}

// ForgetVantage drops what a vantage point that was removed saw.
func (p *Prober) ForgetVantage(id int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, w := range p.watches {
		w.SetResults(slices.DeleteFunc(w.Results(nil), func(v seen.Result) bool { return v.Vantage == id }))
	}
}

// Elsewhere counts, at other links of a service's provider, those at which its external port works, and those at which it is silent while
// other ports work.
func (p *Prober) Elsewhere(s site.Service, l site.Link) (works, silent int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.ports.Elsewhere(s, l)
}
