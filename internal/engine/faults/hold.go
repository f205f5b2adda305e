package faults

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
)

// hold keeps what was told of a site until its services were probed again, as fault.Hold says; all are the findings with what only paths
// show.
func (b *Board) hold(ev diagnose.Evidence, siteID int64, open, found, all []diagnose.Finding, now time.Time) ([]diagnose.Finding,
	[]diagnose.Finding) {
	b.mu.Lock()
	before := b.proposals[siteID]
	b.mu.Unlock()
	h := fault.Hold(open, found, before, ev.Probed, now)
	b.mu.Lock()
	if b.proposals[siteID] = h.Proposals; len(h.Proposals) == 0 {
		delete(b.proposals, siteID)
	}
	b.mu.Unlock()
	if p, ok := b.record.Site(siteID); ok && len(h.Ask) > 0 {
		b.host.ProbeSoon(p, h.Ask)
	}
	all = slices.DeleteFunc(slices.Clone(all), func(f diagnose.Finding) bool { return h.Dropped[f.Key()] })
	for _, f := range h.Kept {
		if !slices.ContainsFunc(all, func(x diagnose.Finding) bool { return x.Key() == f.Key() }) {
			all = append(all, f)
		}
	}
	return h.Found, all
}
