package engine

import (
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
)

// takeOutOfTurn takes a round in that was made outside the queue.
func (p *prober) takeOutOfTurn(serviceID int64, r round) {
	p.mu.Lock()
	w := p.watches[serviceID]
	p.mu.Unlock()
	if w == nil || p.take(w, p.own, r).IsZero() {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hurry(w)
}

// take draws the conclusions from a round of one vantage point. It says when the result has to be confirmed; never, where
// the time is zero.
func (p *prober) take(w *watch, vantage int64, r round) (confirm time.Time) {
	p.mu.Lock()
	s := *w.service
	if s.ID != r.service.ID || p.watches[s.ID] != w {
		p.mu.Unlock()
		return confirm
	}
	if s.Revision != r.service.Revision { // it is about what was there before an edit
		w.again = w.again || vantage == p.own
		p.mu.Unlock()
		return confirm
	}
	var l site.Link
	if where, ok := p.e.record.Site(s.SiteID); ok {
		if l, _ = where.Followed(s.LinkID); r.address != where.TargetOf(s, l) {
			w.again = w.again || vantage == p.own // the link moved while we probed: what came back is about somebody else
			p.mu.Unlock()
			return confirm
		}
	}
	p.counts.outcome(s.Kind, r.outcome)
	every := interval(s)
	result := ledger.Result{ServiceID: s.ID, VantageID: vantage, Outcome: r.outcome, At: r.at, Latency: r.latency}
	if r.held { // nobody was asked: what is known stands
		p.mu.Unlock()
		p.e.history.Add(result, ledger.Gap(every), s.ExpectedAt(r.at), probe.StateUnknown)
		return confirm
	}
	rule := p.ruleOf(s, l, r.at)
	if r.left == "" && unknownPeer(s, vantage, p.own, w.views, r.outcome) {
		r.left = unknownPeerWords
	}
	before := w.standing
	i := slices.IndexFunc(w.views, func(v view) bool { return v.vantage == vantage })
	if i < 0 {
		i = len(w.views)
		w.views = append(w.views, view{vantage: vantage})
	}
	was := w.views[i]
	v := was
	v.View, v.latency, v.said, v.left = rule.Next(v.View, r.outcome, r.at), r.latency, r.said, r.left
	v.known = v.known || r.outcome.Open()
	settling := rule.Meaning(v.Outcome) == probe.NotWanted && rule.Tenancy.Settling(v.Since, v.At)
	w.views[i] = v
	if vantage == p.own {
		w.probed, w.address, w.ways = r.at, r.address, r.ways
	}
	w.judge(rule, p.unfit, r.at)
	w.settling = settling
	if r.fingerprint != "" || r.certificate != nil || r.named != nil || r.loose != "" || w.shown != nil {
		next := showing{}
		if w.shown != nil {
			next = *w.shown
		}
		if r.outcome.Open() {
			next.fingerprint = r.fingerprint
		}
		if r.outcome.Open() && vantage == p.own { // others return fingerprints only
			next.certificate, next.loose = r.certificate, r.loose
		}
		if r.named != nil {
			next.named = r.named
		}
		w.shown = &next
	}
	after := w.standing
	settled := rule.Settled(v.View)
	p.mu.Unlock()

	p.e.history.Add(result, ledger.Gap(every), rule.Expected, before.state)
	p.tell(r, before, after)
	if r.outcome == probe.Stranger && settled {
		p.e.strangerAt(l, s, r, v.Since)
	}
	if r.outcome == probe.Answered && r.fingerprint != "" && s.Fingerprint == "" && r.left == "" {
		p.e.pinFirst(s, r.fingerprint)
	}
	if settling {
		p.e.SiteSide.CheckAddress(l.ID)
	}
	if r.left == "" && rule.Meaning(r.outcome) == probe.AsWanted && was.InRow > 0 && rule.Meaning(was.Outcome) == probe.NotWanted {
		p.e.posts.confirm(s.ID, vantage) // they may see the repair, too
		if vantage != p.own {
			p.mu.Lock()
			p.hurry(w)
			p.mu.Unlock()
		}
	}
	if rule.Meaning(r.outcome) != probe.NotWanted || r.left != "" {
		return confirm
	}
	if was.InRow == 0 || rule.Meaning(was.Outcome) != probe.NotWanted {
		p.e.posts.confirm(s.ID, vantage) // from elsewhere, too
		if vantage != p.own {
			p.mu.Lock()
			p.hurry(w)
			p.mu.Unlock()
		}
	}
	if settled {
		return confirm
	}
	return pace.Confirm(r.at, v.Since, v.InRow, probe.Confirmations, every)
}

// unknownPeerWords is why the silence of a WireGuard server says nothing to a vantage point that it never answered.
const unknownPeerWords = "the server may not know this vantage point's key: add that as a peer"

// unknownPeer reports whether silence is what a WireGuard server owes a vantage point whose key it does not know. Each has its own.
func unknownPeer(s site.Service, vantage, own int64, views []view, o probe.Outcome) bool {
	if s.Kind != probe.KindWireGuard || s.ProbeKey == "" || vantage == own || o != probe.Silent {
		return false
	}
	i := slices.IndexFunc(views, func(v view) bool { return v.vantage == vantage })
	return i < 0 || !views[i].known
}

// ruleOf is how a service is judged at a time, at the address that its link has.
func (p *prober) ruleOf(s site.Service, l site.Link, at time.Time) probe.Rule {
	rule := s.RuleAt(at)
	rule.Tenancy = p.e.SiteSide.Tenancy(l)
	return rule
}

// judge brings a watch's state in line with its views. Where every view is left out, the state stays until it is too old. The
// caller holds the lock.
func (w *watch) judge(rule probe.Rule, unfit map[int64]string, now time.Time) {
	counted := make([]probe.View, 0, 4)
	leftOut := false
	for _, v := range w.views {
		if v.left == "" && unfit[v.vantage] == "" {
			counted = append(counted, v.View)
		} else if v.left == "" {
			leftOut = leftOut || rule.Stale == 0 || now.Sub(v.Since) < rule.Stale
		}
	}
	state := probe.Verdict(rule, w.state, counted, now)
	if state == probe.StateUnknown && leftOut {
		state = w.state
	}
	if state == probe.StateUnreachable && rule.Expected == probe.ExpectReachable && w.halfReached() {
		state = probe.StateImpaired
	}
	if state != w.state {
		w.state, w.since = state, now
	}
	best := probe.Representative(rule, w.state, counted)
	if len(counted) == 0 && len(w.views) > 0 {
		best = w.views[0].View
	}
	w.view, w.turned = best, best.Since
	for _, v := range w.views {
		if v.View == best {
			w.latency, w.said = v.latency, v.said
		}
	}
}

// halfReached reports whether the newest round reached the service over one of its two ways.
func (w *watch) halfReached() bool {
	good, bad := false, false
	for _, way := range w.ways {
		good = good || way.Outcome.Good()
		bad = bad || !way.Outcome.Good() && way.Outcome != probe.Skipped
	}
	return good && bad
}

// tell lets everybody know of what a round has changed.
func (p *prober) tell(r round, before, after standing) {
	s := r.service
	asExpected := probe.AsExpected(s.ExpectedAt(r.at), after.state)
	if after.view.Outcome != before.view.Outcome {
		p.e.Events.Publish(events.ServiceOutcome, r.site, s.Name, fmt.Sprintf("%s %s is %s", s.Name, r.target(), after.view.Outcome))
	}
	if after.state != before.state {
		p.e.history.SetState(store.ServiceState{ServiceID: s.ID, State: after.state, Since: after.since})
		p.e.Events.Publish(events.ServiceState, r.site, s.Name, fmt.Sprintf("%s went from %s to %s", s.Name, probe.Words(s.ExpectedAt(r.at), before.state, false), probe.Words(s.ExpectedAt(r.at), after.state, false)))
	}
	failed := s.RuleAt(r.at).Meaning(r.outcome) == probe.NotWanted
	if (failed && before.view.Outcome != r.outcome || after.state != before.state && !asExpected) && !s.Mute() {
		p.e.SiteSide.ScanSoon(s.SiteID) // from inside it may look otherwise
	}
	if after.state != before.state || after.view.Outcome != before.view.Outcome {
		p.e.faults.review(s.SiteID)
	}
	if asExpected && r.outcome.Good() {
		p.e.moves.Confirmed(r.linkID, s.ID, r.at)
	}
}
