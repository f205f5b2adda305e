package probing

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/probing/ports"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/rounds"
)

const (
	fitEvery = 2 * time.Second
	// fitAtOnce is how many services are looked at in one go.
	fitAtOnce = 250
	// fitMost is how many services are looked at in a round. Of more, a sample says whether something is wrong with the vantage point;
	// all of them are looked at now and then, for what is about a few: ports of a provider. That is every surveyEvery, and of very many
	// less often: they are not probed more often either.
	fitMost     = 2_000
	surveyEvery = 20 * time.Second
	// lately is how recent a result has to be to say something of the vantage point's own way out.
	lately = 45 * time.Second
)

// runFitness finds the vantage points that are themselves at fault, so that a broken one does not make every service unreachable.
func (p *Prober) runFitness(ctx context.Context) {
	tick := rounds.Every(fitEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			tick.Begun()
			p.reviewFitness()
		case <-ctx.Done():
			return
		}
	}
}

// some returns all watches, or fitMost that chance picks.
func some(watches map[int64]*watch, all bool) []*watch {
	n := len(watches)
	if !all {
		n = fitMost
	}
	out := make([]*watch, 0, n)
	for _, w := range watches {
		if out = append(out, w); len(out) == n {
			break
		}
	}
	return out
}

// pause is the time between two looks at all of n services: surveyEvery, twice that for 60,000, and three times for more than 90,000.
func pause(n int) time.Duration { return surveyEvery * time.Duration(min(max(1, n/30_000), 3)) }

func (p *Prober) reviewFitness() {
	now := p.Now()
	next := map[int64]string{}
	for id, words := range p.host.Ailing() {
		next[id] = words
	}
	p.mu.Lock()
	before := p.unfit
	sights := map[int64]*probe.SharedView{}
	links := map[int64]probe.LinkView[int64]{}
	lossyLinks, shared, alive := probe.LossView{}, ports.Seen{}, map[int64]bool{}
	all := len(p.watches) <= fitMost || p.Ticks().Sub(p.surveyed) >= pause(len(p.watches))
	if all {
		p.surveyed = p.Ticks()
	}
	var results []seen.Result
	for n, w := range some(p.watches, all) {
		if n%fitAtOnce == fitAtOnce-1 { // let others at what is locked, and at the processor
			p.mu.Unlock()
			runtime.Gosched()
			p.mu.Lock()
		}
		rule := w.service.RuleAt(now)
		where, ok := p.record.Site(w.service.SiteID)
		if rule.Expected != probe.ExpectReachable || rule.Mute || !ok {
			continue
		}
		l, _ := where.Followed(w.service.LinkID)
		st := w.Status()
		lossyLinks = lossyLinks.With(l.ID, st.Lately)
		shared.Note(p.ports, *w.service, l, st.View.Outcome)
		alive[l.ID] = alive[l.ID] || st.State == probe.StateReachable && st.View.Outcome.Good()
		results = w.Results(results[:0])
		for i, v := range results {
			if v.LeftOut != "" || now.Sub(v.At) > rule.Stale {
				continue
			}
			meaning := rule.Meaning(v.Outcome)
			if (st.State == probe.StateReachable || st.State == probe.StateImpaired) && now.Sub(v.At) < lately && meaning != probe.Nothing {
				links[v.Vantage] = links[v.Vantage].With(l.ID, meaning == probe.AsWanted)
			}
			for k, o := range results {
				if k == i || o.LeftOut != "" || next[o.Vantage] != "" || now.Sub(o.At) > rule.Stale ||
					rule.Meaning(o.Outcome) != probe.AsWanted {
					continue
				}
				s := sights[v.Vantage]
				if s == nil {
					s = &probe.SharedView{}
					sights[v.Vantage] = s
				}
				s.Shared++
				if meaning == probe.NotWanted && v.InRow >= probe.Confirmations {
					s.Failing++
				}
				break
			}
		}
	}
	if p.lossy = lossyLinks.Lossy(); all {
		p.ports = shared.Without(alive)
	}
	p.mu.Unlock()
	for id, s := range sights {
		if s.Unfit(before[id] != "") && next[id] == "" {
			next[id] = fmt.Sprintf("it does not reach %d of %d services that others reach", s.Failing, s.Shared)
		}
	}
	for id, of := range links {
		if of.Blind() && next[id] == "" {
			next[id] = fmt.Sprintf("nothing answers it on any of %d links at once: its own way out is the likelier cause", len(of))
		}
	}
	p.mu.Lock()
	changed := !maps.Equal(before, next)
	p.unfit = next
	p.mu.Unlock()
	if !changed {
		return
	}
	for id, words := range next {
		if before[id] == "" {
			p.events.Publish(events.Vantage, "", p.host.VantageName(id),
				fmt.Sprintf("vantage point %s does not count for now: %s", p.host.VantageName(id), words))
		}
	}
	for id := range before {
		if next[id] == "" {
			p.events.Publish(events.Vantage, "", p.host.VantageName(id),
				fmt.Sprintf("vantage point %s counts again", p.host.VantageName(id)))
		}
	}
}

// LossyEverywhere reports whether probes of ours get lost now and then at most of the links: that is our own line.
func (p *Prober) LossyEverywhere() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.lossy
}
