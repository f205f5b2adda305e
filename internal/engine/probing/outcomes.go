package probing

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

// TakeOutOfTurn takes in a round of this server that was made outside the queue.
func (p *Prober) TakeOutOfTurn(serviceID int64, r Result) {
	p.mu.Lock()
	w := p.watches[serviceID]
	p.mu.Unlock()
	if w == nil || p.take(w, p.Vantage, r).IsZero() {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hurry(w)
}

// Take takes in a round of another vantage point. It does nothing for a service that is gone or was edited since.
func (p *Prober) Take(vantage int64, r Result) {
	p.mu.Lock()
	w := p.watches[r.Service.ID]
	p.mu.Unlock()
	if w != nil {
		p.take(w, vantage, r)
	}
}

// Watched returns a service under observation, as it was recorded last.
func (p *Prober) Watched(serviceID int64) (site.Service, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	w := p.watches[serviceID]
	if w == nil {
		return site.Service{}, false
	}
	return *w.service, true
}

// take draws the conclusions from a round of one vantage point. It says when the result has to be confirmed; never, where
// the time is zero.
func (p *Prober) take(w *watch, vantage int64, r Result) (confirm time.Time) {
	p.mu.Lock()
	s := *w.service
	if s.ID != r.Service.ID || p.watches[s.ID] != w {
		p.mu.Unlock()
		return confirm
	}
	if s.Revision != r.Service.Revision { // it is about what was there before an edit
		w.again = w.again || vantage == p.Vantage
		p.mu.Unlock()
		return confirm
	}
	var l site.Link
	if where, ok := p.record.Site(s.SiteID); ok {
		if l, _ = where.Followed(s.LinkID); r.Address != where.TargetOf(s, l) {
			w.again = w.again || vantage == p.Vantage // the link moved while we probed: the result is about another address
			p.mu.Unlock()
			return confirm
		}
	}
	p.counts.Outcome(s.Kind, r.Outcome)
	every := interval(s)
	result := ledger.Result{ServiceID: s.ID, VantageID: vantage, Outcome: r.Outcome, At: r.At, Latency: r.Latency}
	if r.Held { // nobody was asked: what is known stands
		p.mu.Unlock()
		p.history.Add(result, ledger.Gap(every), s.ExpectedAt(r.At), probe.StateUnknown)
		return confirm
	}
	rule := p.ruleOf(s, l, r.At)
	if b := w.beside; b != nil && rule.Meaning(b.View.Outcome) == probe.NotWanted {
		rule.Beside = b.View.Since
	}
	if r.LeftOut == "" && unknownPeer(s, vantage, p.Vantage, w.results, r.Outcome) {
		r.LeftOut = unknownPeerWords
	}
	before := w.Status
	i := slices.IndexFunc(w.results, func(v VantageResult) bool { return v.Vantage == vantage })
	if i < 0 {
		i = len(w.results)
		w.results = append(w.results, VantageResult{Vantage: vantage})
	}
	was := w.results[i]
	v := was
	v.View, v.Latency, v.Message, v.LeftOut = rule.Next(v.View, r.Outcome, r.At), r.Latency, r.Message, r.LeftOut
	v.Known = v.Known || r.Outcome.Open()
	other := v.InRow <= 1 || probe.FailsOtherwise(was.Outcome, v.Outcome)
	if v.Hung = r.Hung; r.ICMP.Came() || other { // routers limit how often they say something: what was said stands while it fails
		v.ICMP = r.ICMP
	}
	if r.Series != nil {
		v.Series = r.Series
	} else if other {
		v.Series = nil // it was about something else
	}
	settling := rule.Meaning(v.Outcome) == probe.NotWanted && rule.Tenancy.Settling(v.Since, v.At)
	w.results[i] = v
	if vantage == p.Vantage {
		if r.Address != w.Address {
			w.Lately = probe.Lately{}
		}
		w.Lately = w.Lately.Note(r.Outcome, r.Latency)
		w.Probed, w.Address, w.Ways = r.At, r.Address, r.Ways
	}
	w.judge(rule, p.unfit, r.At)
	w.Settling = settling
	if r.Fingerprint != "" || r.Certificate != nil || r.Named != nil || r.Weakness != "" || w.Shown != nil {
		next := Shown{}
		if w.Shown != nil {
			next = *w.Shown
		}
		if r.Outcome.Open() {
			next.Fingerprint = r.Fingerprint
		}
		if r.Outcome.Open() && vantage == p.Vantage { // others return fingerprints only
			next.Certificate, next.Weakness = r.Certificate, r.Weakness
		}
		if r.Named != nil {
			next.Named = r.Named
		}
		w.Shown = &next
	}
	after := w.Status
	settled := rule.Settled(v.View)
	p.mu.Unlock()

	p.history.Add(result, ledger.Gap(every), rule.Expected, before.State)
	p.tell(r, before, after)
	if r.Outcome == probe.Stranger && settled {
		p.quarantineLink(l, s, r, v.Since)
	}
	if r.Outcome == probe.Answered && r.Fingerprint != "" && s.Fingerprint == "" && r.LeftOut == "" {
		p.host.PinFirst(s, r.Fingerprint)
	} else if vantage == p.Vantage && r.Outcome == probe.Answered && r.Certificate != nil && r.Certificate.Vouched &&
		!probe.SamePrint(s.Fingerprint, r.Fingerprint) {
		p.host.PinRenewed(s, r.Fingerprint)
	}
	if settling {
		p.host.CheckAddress(l.ID)
	}
	if vantage == p.Vantage {
		p.measure(w, r, v, rule, other)
	}
	if r.LeftOut == "" && rule.Meaning(r.Outcome) == probe.AsWanted && was.InRow > 0 && rule.Meaning(was.Outcome) == probe.NotWanted {
		p.lookAround(w, l, true)
		p.host.ConfirmElsewhere(s.ID, vantage) // they may see the repair, too
		if vantage != p.Vantage {
			p.mu.Lock()
			p.hurry(w)
			p.mu.Unlock()
		}
	}
	if rule.Meaning(r.Outcome) != probe.NotWanted || r.LeftOut != "" {
		return confirm
	}
	if was.InRow == 0 || rule.Meaning(was.Outcome) != probe.NotWanted {
		p.lookAround(w, l, false)
		p.host.ConfirmElsewhere(s.ID, vantage) // from elsewhere, too
		if vantage != p.Vantage {
			p.mu.Lock()
			p.hurry(w)
			p.mu.Unlock()
		}
	}
	if settled {
		return confirm
	}
	return pace.Confirm(r.At, v.Since, r.Took, v.InRow, probe.Confirmations, every)
}

// unknownPeerWords is why the silence of a WireGuard server says nothing to a vantage point that it never answered.
const unknownPeerWords = "the server may not know this vantage point's key: add that as a peer"

// unknownPeer reports whether silence is what a WireGuard server owes a vantage point whose key it does not know. Each has its own.
func unknownPeer(s site.Service, vantage, own int64, results []VantageResult, o probe.Outcome) bool {
	if s.Kind != probe.KindWireGuard || s.ProbeKey == "" || vantage == own || o != probe.Silent {
		return false
	}
	i := slices.IndexFunc(results, func(v VantageResult) bool { return v.Vantage == vantage })
	return i < 0 || !results[i].Known
}

// ruleOf is how a service is judged at a time, at the address that its link has.
func (p *Prober) ruleOf(s site.Service, l site.Link, at time.Time) probe.Rule {
	rule := s.RuleAt(at)
	rule.Tenancy = p.host.Tenancy(l)
	return rule
}

// judge brings a watch's state in line with its results. When every result is left out, the state stays until it is too old. The caller
// holds the lock.
func (w *watch) judge(rule probe.Rule, unfit map[int64]string, now time.Time) {
	counted := make([]probe.View, 0, 4)
	leftOut := false
	for _, v := range w.results {
		if v.LeftOut == "" && unfit[v.Vantage] == "" {
			counted = append(counted, v.View)
		} else if v.LeftOut == "" {
			leftOut = leftOut || rule.Stale == 0 || now.Sub(v.Since) < rule.Stale
		}
	}
	state := probe.Verdict(rule, w.State, counted, now)
	if state == probe.StateUnknown && leftOut {
		state = w.State
	}
	if state == probe.StateUnreachable && rule.Expected == probe.ExpectReachable && w.halfReached() {
		state = probe.StateImpaired
	}
	if state != w.State {
		w.State, w.Since = state, now
	}
	if w.Proven.IsZero() && probe.AsExpected(rule.Expected, state) {
		w.Proven = now
	}
	best := probe.Representative(rule, w.State, counted)
	if len(counted) == 0 && len(w.results) > 0 {
		best = w.results[0].View
	}
	w.View, w.Turned = best, best.Since
	for _, v := range w.results {
		if v.View == best {
			w.Latency, w.Message = v.Latency, v.Message
		}
	}
}

// halfReached reports whether the newest round reached the service over one of its two ways.
func (w *watch) halfReached() bool {
	good, bad := false, false
	for _, way := range w.Ways {
		good = good || way.Outcome.Good()
		bad = bad || !way.Outcome.Good() && way.Outcome != probe.Skipped
	}
	return good && bad
}

// tell publishes what a round has changed.
func (p *Prober) tell(r Result, before, after Status) {
	s := r.Service
	asExpected := probe.AsExpected(s.ExpectedAt(r.At), after.State)
	if after.View.Outcome != before.View.Outcome {
		p.events.Publish(events.ServiceOutcome, r.Site, s.Name, fmt.Sprintf("%s %s is %s", s.Name, r.target(), after.View.Outcome))
	}
	if after.State != before.State {
		p.history.SetState(store.ServiceState{ServiceID: s.ID, State: after.State, Since: after.Since, Proven: after.Proven})
		p.events.Publish(events.ServiceState, r.Site, s.Name,
			fmt.Sprintf("%s went from %s to %s", s.Name, probe.Words(s.ExpectedAt(r.At), before.State, false),
				probe.Words(s.ExpectedAt(r.At), after.State, false)))
	}
	failed := s.RuleAt(r.At).Meaning(r.Outcome) == probe.NotWanted
	if (failed && before.View.Outcome != r.Outcome || after.State != before.State) && !s.Mute() {
		p.host.ScanDevices(s.SiteID) // from inside it may look otherwise; and what is over there is told as over
	}
	if after.State != before.State || after.View.Outcome != before.View.Outcome {
		p.host.Review(s.SiteID)
	}
	if asExpected && r.Outcome.Good() {
		p.host.Confirmed(r.LinkID, s.ID, r.At)
	}
}
