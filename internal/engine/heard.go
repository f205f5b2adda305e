package engine

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// heardList collects when links were last heard, until it is written in bulk.
type heardList struct {
	mu    sync.Mutex
	at    map[int64]time.Time
	dirty map[int64]time.Time
}

func (h *heardList) note(linkID int64, at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.dirty == nil {
		h.dirty = map[int64]time.Time{}
	}
	h.at[linkID], h.dirty[linkID] = at, at
}

// last gives when a link was heard: the later of what the record says and what was noted since.
func (h *heardList) last(l site.Link) time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	if at := h.at[l.ID]; at.After(l.Heard) {
		return at
	}
	return l.Heard
}

// tenancy is what is known of whether a link still has its address. What was not heard before this server listened proves nothing.
func (e *Engine) tenancy(l site.Link) probe.Tenancy {
	every := e.announcesEvery(l)
	if l.Mode == site.Static || every == 0 {
		return probe.Tenancy{}
	}
	t := probe.Tenancy{Heard: e.heard.last(l), Patience: wan.Patience(every)}
	if e.listening.After(t.Heard) {
		t.Heard = e.listening
	}
	return t
}

// announcesEvery is how often whoever announces a link's address looks for another; 0 where nobody does at a rhythm.
func (e *Engine) announcesEvery(l site.Link) time.Duration {
	if l.Agent {
		return e.config.CheckEvery
	}
	if v := e.standings.view(l.ID); v != nil {
		return time.Duration(v.Rhythm * float64(time.Second))
	}
	return 0
}

func (h *heardList) take() map[int64]time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	d := h.dirty
	h.dirty = nil
	return d
}

func (h *heardList) putBack(d map[int64]time.Time) {
	for id, at := range d {
		h.mu.Lock()
		if _, newer := h.dirty[id]; !newer {
			if h.dirty == nil {
				h.dirty = map[int64]time.Time{}
			}
			h.dirty[id] = at
		}
		h.mu.Unlock()
	}
}

// runHeard writes last-heard times in bulk: an announcement that changes nothing costs no transaction of its own.
func (e *Engine) runHeard(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for last := false; !last; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			last = true
		}
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		if err := e.writeStandings(bounded); err != nil {
			e.log.Warn("what agents reported is not written; kept for the next try", "error", err)
		}
		if err := e.writeSightings(bounded); err != nil {
			e.log.Warn("what agents saw is not written; kept for the next try", "error", err)
		}
		if err := e.Access.WriteKeyUse(bounded); err != nil {
			e.log.Warn("when keys were used is not written", "error", err)
		}
		d := e.heard.take()
		if len(d) == 0 {
			cancel()
			continue
		}
		if err := e.store.Hear(bounded, d); err != nil {
			e.heard.putBack(d)
			e.log.Warn("last-heard times not written; kept for the next try", "error", err)
		}
		cancel()
	}
}
