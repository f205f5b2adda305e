package probing

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/record"
)

// Quarantined returns why a link must not be probed, "" if it may be.
func (p *Prober) Quarantined(l site.Link) string {
	return p.quarantine.Reason(l.ID, p.host.LastHeard(l))
}

// Forget lifts the quarantine of links that are gone.
func (p *Prober) Forget(gone record.Gone) {
	for id := range gone.Links {
		p.quarantine.Lift(id)
	}
}

// quarantineLink quarantines a link whose service showed another fingerprint, unless the link was proven just now: then it is the device
// that is another, not the address. An address that an operator typed is proven by that.
func (p *Prober) quarantineLink(l site.Link, s site.Service, r result.Round, since time.Time) {
	heard := p.host.LastHeard(l)
	if l.Mode == site.Static || heard.After(since) || p.host.AnnouncesEvery(l) == 0 && heard.After(r.At.Add(-3*p.CheckEvery)) {
		return
	}
	words := fmt.Sprintf("%s appears to belong to someone else: %s shows %s instead of what is pinned, and nothing was heard from "+
		"the site; it is left alone until link %s is proven again",
		r.Address, s.Name, r.Fingerprint, l.Label)
	if p.quarantine.Add(l.ID, r.At, words) {
		p.events.Publish(events.ServiceOutcome, r.Site, s.Name, words)
		p.host.AssignmentsChanged(s.SiteID)
		p.host.Review(s.SiteID)
	}
}
