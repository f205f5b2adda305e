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
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/store"
)

// TakeOutOfTurn takes in a round of this server that was made outside the queue.
func (p *Prober) TakeOutOfTurn(serviceID int64, r result.Round) {
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
func (p *Prober) Take(vantage int64, r result.Round) {
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
func (p *Prober) take(w *watch, vantage int64, r result.Round) (confirm time.Time) {
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
	kept := ledger.Result{ServiceID: s.ID, VantageID: vantage, Outcome: r.Outcome, At: r.At, Latency: r.Latency}
	if r.Held { // nobody was asked: what is known stands
		p.mu.Unlock()
		p.history.Add(kept, ledger.Gap(every), s.ExpectedAt(r.At), probe.StateUnknown)
		return confirm
	}
	rule := p.ruleOf(s, l, r.At)
	if w.beside != nil {
		if view := w.beside.Status().View; rule.Meaning(view.Outcome) == probe.NotWanted {
			rule.Beside = view.Since
		}
	}
	var room [4]seen.Result
	results := w.Results(room[:0])
	if r.LeftOut == "" && result.UnknownPeer(s, vantage, p.Vantage, results, r.Outcome) {
		r.LeftOut = result.UnknownPeerWords
	}
	before := w.Status()
	after := before
	i := slices.IndexFunc(results, func(v seen.Result) bool { return v.Vantage == vantage })
	if i < 0 {
		i = len(results)
		results = append(results, seen.Result{Vantage: vantage})
	}
	was := results[i]
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
	results[i] = v
	if vantage == p.Vantage {
		if r.Address != after.Address {
			after.Lately = probe.Lately{}
		}
		after.Lately = after.Lately.Note(r.Outcome, r.Latency)
		after.Probed, after.Address, after.Ways = r.At, r.Address, r.Ways
	}
	after = after.Judged(results, rule, p.unfit, r.At)
	after.Settling = settling
	if r.Fingerprint != "" || r.Certificate != nil || r.Named != nil || r.Weakness != "" || after.Shown != nil {
		next := seen.Shown{}
		if after.Shown != nil {
			next = *after.Shown
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
		after.Shown = &next
	}
	w.SetStatus(after)
	w.SetResults(results)
	settled := rule.Settled(v.View)
	p.mu.Unlock()

	p.history.Add(kept, ledger.Gap(every), rule.Expected, before.State)
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

// ruleOf is how a service is judged at a time, at the address that its link has.
func (p *Prober) ruleOf(s site.Service, l site.Link, at time.Time) probe.Rule {
	rule := s.RuleAt(at)
	rule.Tenancy = p.host.Tenancy(l)
	return rule
}

// tell publishes what a round has changed.
func (p *Prober) tell(r result.Round, before, after seen.Status) {
	s := r.Service
	asExpected := probe.AsExpected(s.ExpectedAt(r.At), after.State)
	if after.View.Outcome != before.View.Outcome {
		p.events.Publish(events.ServiceOutcome, r.Site, s.Name, fmt.Sprintf("%s %s is %s", s.Name, r.Where(), after.View.Outcome))
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
