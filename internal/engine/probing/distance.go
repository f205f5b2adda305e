package probing

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/probing/seen"
)

// measure has the distance of a port measured where a round of ours says that it is time: of one that works, to compare with, and of one
// that fails, once: at the first failure, so that it is known when that is believed, and when it fails otherwise.
func (p *Prober) measure(w *watch, r result.Round, v seen.Result, rule probe.Rule, first bool) {
	under := p.measuring.Load()
	if under == nil || (*under).Err() != nil || !r.Decided.IsValid() || v.LeftOut != "" {
		return
	}
	ctx := *under
	for _, way := range r.Ways {
		if way.Outcome.Good() && way.Target.IsValid() && way.Target != r.Decided && r.Over == probe.TCP {
			p.meter.Works(ctx, way.Target, p.Now())
		}
	}
	switch {
	case r.Outcome.Good() && r.Over == probe.TCP:
		p.meter.Works(ctx, r.Decided, p.Now())
	case rule.Expected == probe.ExpectReachable && !r.Outcome.Good() && r.Outcome != probe.Skipped && first:
		failed, since := r, v.Since // copies of this branch alone: nearly all rounds come to another
		p.meter.Do(func() { p.examine(ctx, w, failed, since) })
	}
}

// examine measures how far packets to a port that fails get, and keeps it while the failure lasts.
func (p *Prober) examine(ctx context.Context, w *watch, r result.Round, since time.Time) {
	s := p.meter.Examine(ctx, r.Over, r.Decided, p.Now())
	if ctx.Err() != nil {
		return
	}
	p.mu.Lock()
	kept, results := false, w.Results(nil)
	for i := range results {
		if v := &results[i]; v.Vantage == p.Vantage && v.Since.Equal(since) && !v.Outcome.Good() {
			v.Series, kept = &s, true
		}
	}
	w.SetResults(results)
	p.mu.Unlock()
	if !kept {
		return
	}
	p.host.Review(r.Service.SiteID)
	where, _ := p.record.Site(r.Service.SiteID)
	if l, ok := where.Followed(r.Service.LinkID); ok && l.IPv4 == r.Decided.Addr() && result.LostBefore(r.Outcome, s.Distance) {
		p.host.TryWayIn(r.Service, l)
	}
}

// Explain tells how far packets to a port that just failed get, for a caller who waits for the story of a probe: what was measured of the
// same failure, or else a new measurement. nil if there is nothing to measure.
func (p *Prober) Explain(ctx context.Context, r result.Round) *probe.Series {
	if r.Outcome.Good() || r.Outcome == probe.Skipped || !r.Decided.IsValid() || p.Speak != nil {
		return nil
	}
	for _, v := range p.Results(r.Service.ID) {
		if v.Vantage == p.Vantage && v.Series != nil && v.Outcome == r.Outcome {
			return v.Series
		}
	}
	s := p.meter.Examine(ctx, r.Over, r.Decided, p.Now())
	return &s
}

// recent is how old a result may be to say how a service does at this moment, and lookedAt how many of a link's services are looked at
// again when one of them begins to fail.
const (
	recent   = 300 * time.Millisecond
	lookedAt = 12
)

// lookAround probes the other services of a link at once, those that work when one of them begins to fail, as whether they still do says
// most of why, and those that fail when one works again.
func (p *Prober) lookAround(w *watch, l site.Link, failing bool) {
	where, ok := p.record.Site(w.service.SiteID)
	if !ok {
		return
	}
	now, n := p.Now(), 0
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range where.Services {
		x := p.watches[s.ID]
		if x == nil || x == w || n == lookedAt {
			continue
		}
		st := x.Status()
		if st.View.InRow == 0 || now.Sub(st.Probed) < recent {
			continue
		}
		if on, ok := where.Followed(s.LinkID); ok && on.ID == l.ID &&
			failing == (x.service.RuleAt(now).Meaning(st.View.Outcome) == probe.NotWanted) {
			if p.hurry(x); failing {
				x.beside = w
			}
			n++
		}
	}
}
