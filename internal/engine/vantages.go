package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/speak"
)

var vantageForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// ErrVantageGone reports that a vantage point is no longer on record.
var ErrVantageGone = errors.New("this vantage point is no longer on record; ask for a new code: inkpost vantage invite NAME")

// Vantages lists the vantage points, the server's own first.
func (e *Engine) Vantages() []contract.Vantage {
	now := e.now()
	p := &e.posts
	e.prober.mu.Lock()
	unfit := e.prober.unfit
	counts := map[int64]int{}
	for _, w := range e.prober.watches {
		for _, v := range w.views {
			if v.left == "" && now.Sub(v.At) <= w.service.RuleAt(now).Stale {
				counts[v.vantage]++
			}
		}
	}
	e.prober.mu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	out := []contract.Vantage{}
	for id, v := range p.byID {
		one := contract.Vantage{ID: id, Name: v.Name, Note: v.Note, Own: id == p.own, Enrolled: v.Enrolled.Time, Heard: v.heard, State: contract.VantageWorking,
			Problem: unfit[id], Services: counts[id], VantageWord: v.word}
		switch {
		case !one.Own && one.Enrolled.IsZero():
			one.State = contract.VantageInvited
		case !one.Own && now.Sub(v.heard) > awayAfter:
			one.State = contract.VantageAway
		case one.Problem != "":
			one.State = contract.VantageAiling
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b contract.Vantage) int {
		if a.Own != b.Own {
			return map[bool]int{true: -1, false: 1}[a.Own]
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

func (e *Engine) vantageNamed(name string) (*post, error) {
	p := &e.posts
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, v := range p.byID {
		if v.Name == strings.ToLower(strings.TrimSpace(name)) {
			return v, nil
		}
	}
	return nil, store.Missing{Kind: "vantage point", Name: name}
}

// InviteVantage makes a one-time code with which a machine enrols as a vantage point; one that is on record already gets a
// new key with it.
func (e *Engine) InviteVantage(ctx context.Context, in contract.VantageInput) (contract.VantageInvitation, error) {
	in.Name, in.Note = strings.ToLower(strings.TrimSpace(in.Name)), strings.TrimSpace(in.Note)
	if !vantageForm.MatchString(in.Name) {
		return contract.VantageInvitation{}, site.Flaws{{Field: "name", Detail: fmt.Sprintf("%q is no name of a vantage point; 1 to 32 of a-z, 0-9 and hyphen", in.Name)}}
	}
	if len(in.Note) > 200 {
		return contract.VantageInvitation{}, site.Flaws{{Field: "note", Detail: "has more than 200 characters"}}
	}
	if in.Name == e.config.Vantage {
		return contract.VantageInvitation{}, site.Flaws{{Field: "name", Detail: fmt.Sprintf("%s is this server itself; choose another name", in.Name)}}
	}
	v, err := e.vantageNamed(in.Name)
	if err != nil {
		var id int64
		if err := e.store.Together(ctx, func(tx *store.Store) (err error) { id, err = tx.AddVantage(ctx, in.Name, in.Note); return err }); err != nil {
			return contract.VantageInvitation{}, err
		}
		v = &post{Vantage: store.Vantage{ID: id, Name: in.Name, Note: in.Note}, now: map[int64]bool{}}
		e.posts.mu.Lock()
		e.posts.byID[id] = v
		e.posts.mu.Unlock()
		e.posts.touch(0)
	}
	inv := contract.VantageInvitation{Vantage: v.Name}
	if inv.Code, inv.Expires, err = e.Access.InviteVantage(ctx, v.ID); err != nil {
		return contract.VantageInvitation{}, err
	}
	e.Events.Publish(events.Vantage, "", v.Name, "vantage point "+v.Name+" was invited")
	return inv, nil
}

// EnrolVantage gives a vantage point its key for a one-time code. Error: ErrCode.
func (e *Engine) EnrolVantage(ctx context.Context, in contract.Enrolment) (contract.VantageEnrolled, error) {
	key, id, err := e.Access.EnrolVantage(ctx, in.Code)
	if err != nil {
		return contract.VantageEnrolled{}, err
	}
	e.posts.mu.Lock()
	defer e.posts.mu.Unlock()
	v := e.posts.byID[id]
	if v == nil {
		return contract.VantageEnrolled{}, ErrVantageGone
	}
	v.Enrolled.Time, v.heard = e.now(), e.now()
	return contract.VantageEnrolled{Key: key, Vantage: v.Name}, nil
}

// RemoveVantage takes a vantage point off the record: its key is useless at once, and what it saw counts no longer.
func (e *Engine) RemoveVantage(ctx context.Context, name string) error {
	v, err := e.vantageNamed(name)
	if err != nil {
		return err
	}
	if v.ID == e.posts.own {
		return site.Flaws{{Field: "name", Detail: "this is the server itself; it cannot be removed"}}
	}
	if err := e.change(ctx, func() (edit, error) {
		return edit{words: "vantage point " + v.Name + " removed", touched: &record.Touched{Vantages: []int64{v.ID}}, write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveVantage(ctx, v.ID, v.Name) }}, nil
	}); err != nil {
		return err
	}
	e.posts.mu.Lock()
	delete(e.posts.byID, v.ID)
	e.posts.rouse()
	e.posts.mu.Unlock()
	e.history.ForgetVantage(v.ID)
	e.prober.mu.Lock()
	for _, w := range e.prober.watches {
		w.views = slices.DeleteFunc(w.views, func(o view) bool { return o.vantage == v.ID })
	}
	e.prober.mu.Unlock()
	return nil
}

// clockApart is how far apart the clocks of a vantage point and the server may be before its times are not taken.
const clockApart = 5 * time.Second

// TakeOutcomes takes in what a vantage point saw. What is about an address or a service that has changed since is passed
// over. from is its address as the server sees it.
func (e *Engine) TakeOutcomes(ctx context.Context, vantageID int64, from netip.Addr, in contract.OutcomeBatch) (contract.BatchTaken, error) {
	now := e.now()
	p := &e.posts
	p.mu.Lock()
	v := p.byID[vantageID]
	if v == nil {
		p.mu.Unlock()
		return contract.BatchTaken{}, ErrVantageGone
	}
	v.heard, v.word = now, in.VantageWord
	v.word.Observed = from.String()
	if off := in.Sent.Sub(now); v.word.Ailing == "" && off.Abs() > clockApart {
		v.word.Ailing = fmt.Sprintf("its clock is %s away from the server's", off.Abs().Round(time.Second))
	}
	note := now.Sub(v.noted) > 10*time.Second
	if note {
		v.noted = now
	}
	word := v.word
	p.mu.Unlock()
	if note {
		doc, err := json.Marshal(word)
		if err == nil {
			err = e.store.NoteVantage(ctx, vantageID, doc, now)
		}
		if err != nil {
			return contract.BatchTaken{}, err
		}
	}
	out := contract.BatchTaken{Clock: now}
	for _, o := range in.Outcomes {
		if e.takeOutcome(v, vantageID, o, now) {
			out.Taken++
		}
		if o.Story != 0 {
			p.mu.Lock()
			order := p.orders[o.Story]
			p.mu.Unlock()
			if order != nil && order.vantage == vantageID {
				select {
				case order.done <- o:
				default:
				}
			}
		}
	}
	return out, nil
}

func (e *Engine) takeOutcome(v *post, vantageID int64, o contract.OutcomeReport, now time.Time) bool {
	e.prober.mu.Lock()
	w := e.prober.watches[o.Service]
	var s site.Service
	if w != nil {
		s = *w.service
	}
	e.prober.mu.Unlock()
	if w == nil {
		return false
	}
	where, ok := e.record.Site(s.SiteID)
	if !ok {
		return false
	}
	l, _ := where.Followed(s.LinkID)
	r := round{service: s, site: where.Code, linkID: l.ID, address: where.TargetOf(s, l), at: o.At.UTC().Truncate(time.Microsecond), outcome: o.Outcome, latency: time.Duration(o.LatencyUS) * time.Microsecond,
		said: o.Said, fingerprint: o.Fingerprint}
	if r.at.After(now) {
		r.at = now
	}
	gap := s.RuleAt(now).Stale
	switch {
	case o.Revision != s.Revision:
		return false // it is about what was there before an edit
	case o.Outcome == probe.Skipped && o.Said == speak.Insider:
		r.left = speak.Insider
	case o.Outcome == probe.Skipped:
		return false // it says why to its operator; of the service it says nothing
	case o.Target != r.address.String() || o.Also != alsoText(where, s, l) || r.at.Before(l.Since):
		return false // it was made before the site had this address
	case now.Sub(r.at) > gap: // kept while the server was away: history, but no news
		e.history.AddLate(ledger.Result{ServiceID: s.ID, VantageID: vantageID, Outcome: r.outcome, At: r.at, Latency: r.latency}, ledger.Gap(interval(s)))
		return true
	}
	e.posts.mu.Lock()
	if v.inside(r.address) {
		r.left = speak.Insider
	}
	e.posts.mu.Unlock()
	e.prober.take(w, vantageID, r)
	return true
}

func alsoText(where record.Site, s site.Service, l site.Link) string {
	if also := where.SecondTargetOf(s, l); also.IsValid() {
		return also.String()
	}
	return ""
}

// storyLimit is how long somebody waits for another vantage point's probe.
const storyLimit = 15 * time.Second

// probeFrom has another vantage point probe a service, and tells the story.
func (e *Engine) probeFrom(ctx context.Context, where record.Site, s site.Service, vantage string) (contract.Story, error) {
	v, err := e.vantageNamed(vantage)
	if err != nil {
		return contract.Story{}, err
	}
	p := &e.posts
	p.mu.Lock()
	if v.streams == 0 {
		p.mu.Unlock()
		return contract.Story{}, site.Flaws{{Field: "vantage", Detail: fmt.Sprintf("vantage point %s is not listening at present", v.Name)}}
	}
	p.next++
	order := &storyOrder{vantage: v.ID, done: make(chan contract.OutcomeReport, 1)}
	id := p.next
	p.orders[id] = order
	v.story = append(v.story, contract.StoryOrder{ID: id, Service: s.ID})
	p.rouse()
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.orders, id)
		p.mu.Unlock()
	}()
	select {
	case o := <-order.done:
		l, _ := where.Followed(s.LinkID)
		r := round{service: s, hostname: where.HostnameOn(l), at: o.At, outcome: o.Outcome, fingerprint: o.Fingerprint, attempts: o.Attempts}
		if len(r.attempts) == 0 {
			r.attempts = []contract.Attempt{{Target: o.Target, Outcome: o.Outcome, Said: o.Said}}
		}
		return e.story(where, s, r, v.Name), nil
	case <-time.After(storyLimit):
		return contract.Story{}, site.Flaws{{Field: "vantage", Detail: fmt.Sprintf("vantage point %s did not answer within %s", v.Name, storyLimit)}}
	case <-ctx.Done():
		return contract.Story{}, ctx.Err()
	}
}
