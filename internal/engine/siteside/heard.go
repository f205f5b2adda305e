package siteside

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
)

// lastHeard collects when links were last heard from, until it is written in bulk.
type lastHeard struct {
	mu    locks.Leaf
	at    map[int64]time.Time
	dirty map[int64]time.Time
}

func newLastHeard() lastHeard {
	return lastHeard{at: map[int64]time.Time{}, dirty: map[int64]time.Time{}}
}

func (h *lastHeard) forget(gone record.Gone) {
	h.mu.Lock()
	defer h.mu.Unlock()
	drop(h.at, gone.Links)
	drop(h.dirty, gone.Links)
}

func (h *lastHeard) take() map[int64]time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := h.dirty
	h.dirty = map[int64]time.Time{}
	return out
}

func (h *lastHeard) putBack(list map[int64]time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, at := range list {
		if _, newer := h.dirty[id]; !newer {
			h.dirty[id] = at
		}
	}
}

// NoteHeard notes that a link was heard from.
func (s *Side) NoteHeard(linkID int64, at time.Time) {
	s.heard.mu.Lock()
	defer s.heard.mu.Unlock()
	s.heard.at[linkID], s.heard.dirty[linkID] = at, at
}

// LastHeard returns when a link was last heard from: the later of what the record says and what was noted since.
func (s *Side) LastHeard(l site.Link) time.Time {
	s.heard.mu.Lock()
	defer s.heard.mu.Unlock()
	if at := s.heard.at[l.ID]; at.After(l.Heard) {
		return at
	}
	return l.Heard
}

func (s *Side) writeHeard(ctx context.Context) error {
	list := s.heard.take()
	if len(list) == 0 {
		return nil
	}
	err := s.store.Hear(ctx, list)
	if err != nil {
		s.heard.putBack(list)
	}
	return err
}

// Tenancy is what is known of whether a link still has its address. What was not heard before this server started proves nothing.
func (s *Side) Tenancy(l site.Link) probe.Tenancy {
	every := s.AnnouncesEvery(l)
	if l.Mode == site.Static || every == 0 {
		return probe.Tenancy{}
	}
	t := probe.Tenancy{Heard: s.LastHeard(l), Patience: wan.Patience(every)}
	if since := s.Since(); since.After(t.Heard) {
		t.Heard = since
	}
	return t
}

// AnnouncesEvery returns how often whoever announces a link's address looks for another; 0 when nobody does so regularly.
func (s *Side) AnnouncesEvery(l site.Link) time.Duration {
	if l.Agent {
		return s.CheckEvery
	}
	r, _ := s.Report(l.ID)
	return r.Rhythm
}
