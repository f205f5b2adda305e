package siteside

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
)

const (
	// observedFor is how long the server's own observation of a connection counts beside a report: an agent has both families observed
	// right before it reports.
	observedFor = 30 * time.Second
	// refusedFor is how long a refusal is shown, and maxRefusals how many of one link are kept.
	refusedFor  = time.Hour
	maxRefusals = 4
)

// upSlip is how far what is computed of the same start differs from one report to the next.
const upSlip = 10 * time.Second

// reports holds what is known of links from the site's side.
type reports struct {
	mu    locks.Leaf
	links map[int64]*linkState
	dirty map[int64]bool
}

type linkState struct {
	report   site.LinkReport
	observed [2]observation // of IPv4 and IPv6: what the server itself saw
	moves    []time.Time
	calls    []time.Time // when a router announced lately
	said     wan.Pair    // what the sources say, and since when
	since    time.Time
	router   site.RouterWord
	lacks    [2]int // full reports in a row without IPv4 and IPv6
}

// observation is an address that the server saw a connection come from.
type observation struct {
	address netip.Addr
	at      time.Time
}

func newReports() reports {
	return reports{links: map[int64]*linkState{}, dirty: map[int64]bool{}}
}

func (r *reports) forget(gone record.Gone) {
	r.mu.Lock()
	defer r.mu.Unlock()
	drop(r.links, gone.Links)
	drop(r.dirty, gone.Links)
}

// with calls f for the state of a link, which begins empty.
func (r *reports) with(linkID int64, f func(*linkState)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.links[linkID]
	if l == nil {
		l = &linkState{report: site.LinkReport{NAT: wan.NAT{Verdict: wan.NATUnknown}}}
		r.links[linkID] = l
	}
	f(l)
}

func (s *Side) loadReports(ctx context.Context) error {
	docs, err := s.store.LinkReports(ctx)
	if err != nil {
		return err
	}
	for id, doc := range docs {
		var one linkDocument
		if json.Unmarshal(doc, &one) == nil {
			s.reports.links[id] = &linkState{report: one.report()}
		}
	}
	return nil
}

func (s *Side) writeReports(ctx context.Context) error {
	s.reports.mu.Lock()
	docs := map[int64][]byte{}
	for id := range s.reports.dirty {
		if doc, err := json.Marshal(documentOf(s.reports.links[id].report)); err == nil {
			docs[id] = doc
		}
	}
	clear(s.reports.dirty)
	s.reports.mu.Unlock()
	if len(docs) == 0 {
		return nil
	}
	err := s.store.NoteLinkReports(ctx, docs)
	if err != nil {
		s.reports.mu.Lock()
		defer s.reports.mu.Unlock()
		for id := range docs {
			s.reports.dirty[id] = true
		}
	}
	return err
}

// Report returns what is known of a link; ok is false when nothing is.
func (s *Side) Report(linkID int64) (r site.LinkReport, ok bool) {
	s.reports.mu.Lock()
	defer s.reports.mu.Unlock()
	l := s.reports.links[linkID]
	if l == nil {
		return site.LinkReport{NAT: wan.NAT{Verdict: wan.NATUnknown}}, false
	}
	return l.report, true
}

// Observe notes which address the server itself sees of a link's agent. From another address than the link's, it does not count as
// heard from the link: what it goes on to report does.
func (s *Side) Observe(linkID int64, address netip.Addr) {
	now := s.Now()
	s.reports.with(linkID, func(l *linkState) {
		i := 0
		if address.Is6() {
			i = 1
		}
		l.observed[i] = observation{address, now}
	})
	if _, l, ok := s.record.SiteOfLink(linkID); ok && l.Addresses().Of(address.Is6()) == address {
		s.NoteHeard(linkID, now)
	}
}

// Observed lists the addresses that the server saw a link's connections come from lately.
func (s *Side) Observed(linkID int64) (out []netip.Addr) {
	now := s.Now()
	s.reports.with(linkID, func(l *linkState) {
		for _, o := range l.observed {
			if o.address.IsValid() && now.Sub(o.at) <= observedFor {
				out = append(out, o.address)
			}
		}
	})
	return out
}

// Reported is an announcement of an agent that has asked all its sources.
type Reported struct {
	Noticed  time.Time
	Source   wan.Source // that noticed
	Reports  []wan.Report
	Chain    []netip.Addr
	Agent    string // version and platform
	Protocol int
	Up       time.Duration // how long its machine has been up; 0 if it does not say
	Resolver string
	Cannot   []string
}

// Weighing gathers everything that is known of a link's address at one moment.
func (s *Side) Weighing(l site.Link, in Reported, now time.Time) wan.Weighing {
	w := wan.Weighing{Now: now, Current: l.Addresses(), Order: l.Sources, RouterWAN: l.RouterWAN, Chain: in.Chain, Policy: s.Policy}
	s.reports.with(l.ID, func(state *linkState) {
		for _, o := range state.observed {
			if o.address.IsValid() && now.Sub(o.at) <= observedFor {
				w.Reports = append(w.Reports, wan.Report{Source: wan.SourceObserved, Via: "server", Addresses: wan.PairOf(o.address),
					At: o.at})
			}
		}
		w.Moves = slices.Clone(state.moves)
		for _, r := range in.Reports {
			if r.Source != wan.SourceObserved { // what the server sees counts, whatever the sender believes
				w.Reports = append(w.Reports, r)
			}
		}
		for i, six := range []bool{false, true} {
			if state.lacks[i]++; len(in.Reports) == 0 || !w.Lacking(six) {
				state.lacks[i] = 0
			}
		}
		w.Lacks, w.Own = state.lacks, state.report.Own
		w.Since = state.steadySince(w)
	})
	return w
}

// steadySince returns since when the sources have said what they say now.
func (l *linkState) steadySince(w wan.Weighing) time.Time {
	w.Moves = nil // what they would come to if the link were not damped
	said := wan.Weigh(w).Addresses
	if l.said != said || l.since.IsZero() {
		l.said, l.since = said, w.Now
	}
	return l.since
}

// NoteReport keeps what an agent reported and what was judged of it.
func (s *Side) NoteReport(linkID int64, in Reported, w wan.Weighing, j wan.Judgement, moved bool) {
	before, known := s.Report(linkID)
	r := site.LinkReport{NAT: j.NAT, Reason: j.Reason, Held: j.Held, Agent: in.Agent, Protocol: max(in.Protocol, 1),
		Resolver: in.Resolver, Cannot: in.Cannot,
		Reported: w.Now}
	r.NAT.Seen = netip.Addr{} // that is the link's address
	if in.Up > 0 {
		if r.Up = w.Now.Add(-in.Up); r.Up.Sub(before.Up).Abs() < upSlip {
			r.Up = before.Up // the same, but for how long the message took
		}
	}
	for _, from := range w.Reports {
		one := site.SourceReport{Source: from.Source, Via: from.Via, Addresses: from.Addresses, At: from.At, Problem: from.Problem}
		for _, d := range j.Dissents {
			if d.Source == from.Source && d.Via == from.Via {
				one.Dissent = d.Words
			}
		}
		r.Sources = append(r.Sources, one)
	}
	s.reports.with(linkID, func(l *linkState) {
		r.Refused, r.Rhythm, r.Own = l.report.Refused, l.report.Rhythm, l.report.Own // others write those meanwhile
		for _, six := range []bool{false, true} {
			if a := j.Addresses.Of(six); a.IsValid() && !w.Lacking(six) {
				r.Own = r.Own.With(six, a)
			}
		}
		if !r.SameAs(l.report) { // one that says the same again costs no write
			s.reports.dirty[linkID] = true
		}
		l.report = r
		if moved {
			l.moves = append(slices.DeleteFunc(l.moves, func(at time.Time) bool { return w.Now.Sub(at) > wan.FlapWindow }), w.Now)
		}
	})
	p, l, ok := s.record.SiteOfLink(linkID)
	if !ok {
		return
	}
	if !known || before.NAT.Verdict != r.NAT.Verdict || before.Held != r.Held || before.Resolver != r.Resolver {
		s.host.Review(p.ID)
		s.events.Publish(events.LinkReport, p.Code, l.Label, fmt.Sprintf("link %s: %s", l.Label, cmp.Or(r.Held, r.NAT.Words)))
	}
}

// NoteRefusal keeps, for those who look after the site, that an announcement for a link was refused. The caller learns nothing of it.
func (s *Side) NoteRefusal(linkID int64, reason string, from netip.Addr) {
	if s.noteRefused(linkID, reason, from, false) {
		p, l, _ := s.record.SiteOfLink(linkID)
		s.Log.Warn("an announcement was refused", "site", p.Code, "link", l.Label, "from", from, "because", reason)
		s.host.Review(p.ID)
	}
}

// NoteStranger keeps that somebody tried something in a site's name without showing anything of the site's. Anybody can cause that at
// will: it is a note at the site, never a fault.
func (s *Side) NoteStranger(linkID int64, reason string, from netip.Addr) {
	s.noteRefused(linkID, reason, from, true)
}

// noteRefused counts a refusal. first reports whether its reason is new.
func (s *Side) noteRefused(linkID int64, reason string, from netip.Addr, stranger bool) (first bool) {
	p, l, ok := s.record.SiteOfLink(linkID)
	if !ok {
		return false
	}
	now := s.Now()
	s.reports.with(linkID, func(state *linkState) {
		list := slices.DeleteFunc(slices.Clone(state.report.Refused), func(r site.Refusal) bool { return now.Sub(r.Last) > refusedFor })
		i := slices.IndexFunc(list, func(r site.Refusal) bool { return r.Reason == reason })
		if i < 0 {
			list = append(list, site.Refusal{Reason: reason, First: now, Stranger: stranger})
			i, first = len(list)-1, true
		}
		list[i].Count++
		list[i].Last, list[i].From = now, from
		state.report.Refused = list[max(0, len(list)-maxRefusals):]
		s.reports.dirty[linkID] = true
	})
	s.events.Note(events.LinkReport, p.Code, l.Label, reason)
	return first
}

// Refusals lists the refusals of a link that are recent enough to be shown.
func Refusals(r site.LinkReport, now time.Time) []site.Refusal {
	return slices.DeleteFunc(slices.Clone(r.Refused), func(one site.Refusal) bool { return now.Sub(one.Last) > refusedFor })
}

// NoteCalled notes that a router without an agent announced for a link: from its rhythm follows when it is overdue.
func (s *Side) NoteCalled(linkID int64) {
	now := s.Now()
	s.reports.with(linkID, func(l *linkState) {
		if n := len(l.calls); n > 0 && now.Sub(l.calls[n-1]) < time.Second {
			return // one call for each family, or for each hostname
		}
		l.calls = append(l.calls, now)
		l.calls = l.calls[max(0, len(l.calls)-wan.MaxRhythm):]
		every, ok := wan.Rhythm(l.calls)
		if !ok && len(l.calls) < 5 {
			return // what was known before a restart stays until there is more
		}
		if !ok {
			every = 0
		}
		if every = every.Round(time.Second); every != l.report.Rhythm {
			l.report.Rhythm = every
			s.reports.dirty[linkID] = true
		}
	})
}
