package siteside

import (
	"fmt"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
)

// NoteRouter keeps what the router of a link says of itself and of the ports of the link's services. Error: ErrLinkGone.
func (s *Side) NoteRouter(linkID int64, w site.RouterWord) error {
	p, l, ok := s.record.SiteOfLink(linkID)
	if !ok {
		return ErrLinkGone
	}
	before := site.RouterWord{}
	s.reports.with(linkID, func(state *linkState) { before, state.router = state.router, w })
	s.host.Review(p.ID)
	if before.Line != "" && before.Line != w.Line {
		s.events.Publish(events.LinkReport, p.Code, l.Label, fmt.Sprintf("link %s: its router says %s", l.Label, w.Line))
	}
	return nil
}

// Router returns what the router of a link said last; ok is false if it was not asked, or says nothing.
func (s *Side) Router(linkID int64) (w site.RouterWord, ok bool) {
	s.reports.mu.Lock()
	defer s.reports.mu.Unlock()
	l := s.reports.links[linkID]
	if l == nil || l.router.At.IsZero() {
		return w, false
	}
	return l.router, true
}
