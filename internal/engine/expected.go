package engine

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/record"
)

// moved probes the services of a site that follow a link at once: at its new address nothing is proven.
func (p *prober) moved(where record.Site, linkID int64) {
	p.doors.open(linkID)
	if len(where.Services) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		if l, ok := where.Followed(s.LinkID); !ok || l.ID != linkID {
			continue
		}
		if w := p.watches[s.ID]; w != nil {
			for i := range w.views {
				w.views[i].InRow = 0
			}
			w.view.InRow, w.nameDue = 0, time.Time{}
			p.hurry(w)
			if w.cancel != nil {
				w.cancel() // it is on its way to where the site no longer is
			}
		}
	}
	p.e.posts.touch(where.ID)
}

// hurryOn probes the services of a link at once, without forgetting what is known of them.
func (p *prober) hurryOn(where record.Site, linkID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		if l, ok := where.Followed(s.LinkID); ok && l.ID == linkID && p.watches[s.ID] != nil {
			p.hurry(p.watches[s.ID])
		}
	}
}

// provenOn gives when a service was last reached through a link: at its address, whatever it follows now.
func (p *prober) provenOn(linkID int64) (newest time.Time) {
	where, l, ok := p.e.record.SiteOfLink(linkID)
	if !ok {
		return newest
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		if w := p.watches[s.ID]; w != nil && w.address.IsValid() && w.address == where.TargetOf(s, l) && w.view.Outcome.Good() && w.probed.After(newest) {
			newest = w.probed
		}
	}
	return newest
}

// expectedOn gives the services whose answer confirms a move of the link: those that answered before, or were never tried.
func (p *prober) expectedOn(where record.Site, linkID int64) map[int64]bool {
	return p.awaited(where, linkID, func(s probe.State) bool { return s == probe.StateReachable || s == probe.StateUnknown })
}

// triedOn gives those of expectedOn that answered before: what was never tried may have been put on record since the move.
func (p *prober) triedOn(where record.Site, linkID int64) map[int64]bool {
	return p.awaited(where, linkID, func(s probe.State) bool { return s == probe.StateReachable })
}

func (p *prober) awaited(where record.Site, linkID int64, awaits func(probe.State) bool) map[int64]bool {
	if len(where.Services) == 0 {
		return nil
	}
	now := p.e.now()
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[int64]bool{}
	for _, s := range where.Services {
		l, follows := where.Followed(s.LinkID)
		w := p.watches[s.ID]
		if !follows || l.ID != linkID || s.ExpectedAt(now) != probe.ExpectReachable || s.Mute() || w == nil {
			continue
		}
		if awaits(w.state) {
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

func (p *prober) views(serviceID int64) []view {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w := p.watches[serviceID]; w != nil {
		return slices.Clone(w.views)
	}
	return nil
}
