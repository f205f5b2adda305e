package probing

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
)

// quarantine knows the links at whose address somebody else seems to answer. Nothing is probed there until the link is proven again: we
// may probe only addresses known to be the customer's.
type quarantine struct {
	mu    locks.Leaf
	links map[int64]quarantined
}

type quarantined struct {
	since  time.Time
	reason string
}

// reason is why a link must not be probed, "" if it may be. heard is when the link was last proven: by an agent that was heard, or an
// announcement.
func (q *quarantine) reason(l site.Link, heard time.Time) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	one, ok := q.links[l.ID]
	if !ok {
		return ""
	}
	if heard.After(one.since) {
		delete(q.links, l.ID)
		return ""
	}
	return one.reason
}

func (q *quarantine) add(linkID int64, now time.Time, reason string) (first bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	_, already := q.links[linkID]
	q.links[linkID] = quarantined{now, reason}
	return !already
}

func (q *quarantine) lift(linkID int64) {
	q.mu.Lock()
	defer q.mu.Unlock()
	delete(q.links, linkID)
}

// Quarantined returns why a link must not be probed, "" if it may be.
func (p *Prober) Quarantined(l site.Link) string { return p.quarantine.reason(l, p.host.LastHeard(l)) }

// Forget lifts the quarantine of links that are gone.
func (p *Prober) Forget(gone record.Gone) {
	for id := range gone.Links {
		p.quarantine.lift(id)
	}
}

// quarantineLink quarantines a link whose service showed another fingerprint, unless the link was proven just now: then it is the device
// that is another, not the address. An address that an operator typed is proven by that.
func (p *Prober) quarantineLink(l site.Link, s site.Service, r Result, since time.Time) {
	heard := p.host.LastHeard(l)
	if l.Mode == site.Static || heard.After(since) || p.host.AnnouncesEvery(l) == 0 && heard.After(r.At.Add(-3*p.CheckEvery)) {
		return
	}
	words := fmt.Sprintf("%s appears to belong to someone else: %s shows %s instead of what is pinned, and nothing was heard from "+
		"the site; it is left alone until link %s is proven again",
		r.Address, s.Name, r.Fingerprint, l.Label)
	if p.quarantine.add(l.ID, r.At, words) {
		p.events.Publish(events.ServiceOutcome, r.Site, s.Name, words)
		p.host.AssignmentsChanged(s.SiteID)
		p.host.Review(s.SiteID)
	}
}
