package engine

import (
	"net/netip"

	"inkpost.example/inkpost/internal/core/site"
)

// HeartbeatPassword returns the password of an agent's STUN credential, "" for none.
func (e *Engine) HeartbeatPassword(username string) string {
	password, _ := e.rooms.Record.Credential(username)
	return password
}

// NoteHeartbeat notes that an agent was heard by STUN. From another address than the link's it proves nothing: the agent reports next.
func (e *Engine) NoteHeartbeat(username string, from netip.Addr) {
	_, linkID := e.rooms.Record.Credential(username)
	if _, l, ok := e.rooms.Record.SiteOfLink(linkID); ok && l.Addresses().Of(from.Is6()) == from {
		e.rooms.SiteSide.NoteHeard(linkID, e.rooms.Now())
	}
}

// FirstLink returns the preferred link of a site by its code; 0 if there is none.
func (e *Engine) FirstLink(code string) int64 {
	p, ok := e.rooms.Record.SiteByCode(code)
	if !ok {
		return 0
	}
	l, _ := p.Preferred()
	return l.ID
}

// LinkAt finds the link that has an address, so that what comes from there can be told to those who look after its site.
func (e *Engine) LinkAt(address netip.Addr) (int64, bool) {
	for _, p := range e.rooms.Record.Sites() {
		for l := range p.EachLink() {
			if l.IPv4 == address || l.IPv6 == address {
				return l.ID, true
			}
		}
	}
	return 0, false
}

// LinkOf returns the link of an agent's key.
func (e *Engine) LinkOf(linkID int64) (site.Link, bool) {
	_, l, ok := e.rooms.Record.SiteOfLink(linkID)
	return l, ok
}
