package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
)

// standings holds what is known of links from the site's side: what their sources said, and what was judged of it.
type standings struct {
	mu    sync.Mutex
	links map[int64]*linkStanding
	dirty map[int64]bool
}

type linkStanding struct {
	view     contract.LinkStanding
	observed [2]sight // of IPv4 and IPv6: what the server itself saw
	moves    []time.Time
	calls    []time.Time // when a router announced lately
	said     wan.Pair    // what the sources say, and since when
	since    time.Time
	lacks    [2]int // full reports in a row without IPv4 and IPv6
}

type sight struct {
	address netip.Addr
	at      time.Time
}

// observedFor is how long the server's own view of a connection counts beside a report: an agent has both families seen right
// before it reports.
const observedFor = 30 * time.Second

func (s *standings) with(linkID int64, f func(*linkStanding)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.links[linkID]
	if l == nil {
		l = &linkStanding{view: contract.LinkStanding{NAT: wan.NATUnknown}}
		s.links[linkID] = l
	}
	f(l)
}

// view gives what is known of a link; nil where nothing is.
func (s *standings) view(linkID int64) *contract.LinkStanding {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.links[linkID]
	if l == nil {
		return nil
	}
	out := l.view
	return &out
}

// load reads what was known before a restart.
func (e *Engine) loadStandings(ctx context.Context) error {
	docs, err := e.store.LinkStandings(ctx)
	if err != nil {
		return err
	}
	for id, doc := range docs {
		l := &linkStanding{}
		if err := json.Unmarshal(doc, &l.view); err == nil {
			e.standings.links[id] = l
		}
	}
	return nil
}

// writeStandings keeps what has changed since it was called last.
func (e *Engine) writeStandings(ctx context.Context) error {
	s := &e.standings
	s.mu.Lock()
	docs := map[int64][]byte{}
	for id := range s.dirty {
		if doc, err := json.Marshal(s.links[id].view); err == nil {
			docs[id] = doc
		}
	}
	clear(s.dirty)
	s.mu.Unlock()
	if len(docs) == 0 {
		return nil
	}
	err := e.store.NoteLinkStandings(ctx, docs)
	if err != nil {
		s.mu.Lock()
		for id := range docs {
			s.dirty[id] = true
		}
		s.mu.Unlock()
	}
	return err
}

// Observe notes which address the server itself sees of a link's agent. At an address that is not the link's it is not heard from
// the link yet: what it goes on to report is.
func (e *Engine) Observe(linkID int64, address netip.Addr) {
	now := e.now()
	e.standings.with(linkID, func(l *linkStanding) {
		i := 0
		if address.Is6() {
			i = 1
		}
		l.observed[i] = sight{address, now}
	})
	if _, l, ok := e.record.SiteOfLink(linkID); ok && l.Addresses().Of(address.Is6()) == address {
		e.heard.note(linkID, now)
	}
}

// LinkOf gives the link of an agent's key.
func (e *Engine) LinkOf(linkID int64) (site.Link, bool) {
	_, l, ok := e.record.SiteOfLink(linkID)
	return l, ok
}

// Reported is an announcement of an agent that has asked all its sources.
type Reported struct {
	Noticed time.Time
	Source  wan.Source // which noticed
	Reports []wan.Report
	Chain   []netip.Addr
	Word    contract.AgentWord
}

// steadySince says since when the sources have said what they say now.
func (e *Engine) steadySince(linkID int64, w wan.Weighing, now time.Time) (since time.Time) {
	w.Moves = nil // what they would come to, were the link not damped
	said := wan.Weigh(w).Addresses
	e.standings.with(linkID, func(s *linkStanding) {
		if s.said != said || s.since.IsZero() {
			s.said, s.since = said, now
		}
		since = s.since
	})
	return since
}

func (e *Engine) noteStanding(linkID int64, in Reported, w wan.Weighing, j wan.Judgement, moved bool) {
	before := e.standings.view(linkID)
	view := contract.LinkStanding{NAT: j.NAT.Verdict, Words: j.NAT.Words, Remedies: j.NAT.Remedies, Reason: j.Reason, Held: j.Held,
		Agent: strings.TrimSpace(in.Word.Version + " " + in.Word.Platform), Protocol: max(in.Word.Protocol, 1), Resolver: in.Word.Resolver, Cannot: in.Word.Cannot, Reported: w.Now}
	if j.NAT.RouterWAN.IsValid() {
		view.Router = j.NAT.RouterWAN.String()
	}
	for _, hop := range j.NAT.Chain {
		view.Chain = append(view.Chain, hop.String())
	}
	for _, r := range w.Reports {
		s := contract.LinkSource{Source: r.Source, Via: r.Via, Addresses: r.Addresses.String(), At: r.At, Problem: r.Problem}
		for _, d := range j.Dissents {
			if d.Source == r.Source && d.Via == r.Via {
				s.Dissent = d.Words
			}
		}
		view.Sources = append(view.Sources, s)
	}
	e.standings.with(linkID, func(s *linkStanding) {
		view.Refused, view.Rhythm = s.view.Refused, s.view.Rhythm // others write those meanwhile
		own := wan.Pair{IPv4: s.view.OwnIPv4, IPv6: s.view.OwnIPv6}
		for _, six := range []bool{false, true} {
			if a := j.Addresses.Of(six); a.IsValid() && !w.Lacking(six) {
				own = own.With(six, a)
			}
		}
		view.OwnIPv4, view.OwnIPv6 = own.IPv4, own.IPv6
		same := sameStanding(s.view, view)
		s.view = view
		if moved {
			s.moves = append(slices.DeleteFunc(s.moves, func(at time.Time) bool { return w.Now.Sub(at) > wan.FlapWindow }), w.Now)
		}
		if !same {
			e.standings.dirty[linkID] = true
		}
	})
	p, l, ok := e.record.SiteOfLink(linkID)
	if !ok {
		return
	}
	if before == nil || before.NAT != view.NAT || before.Held != view.Held || before.Resolver != view.Resolver {
		e.faults.review(p.ID)
		e.Events.Publish(events.LinkReport, p.Code, l.Label, fmt.Sprintf("link %s: %s", l.Label, orWords(view.Held, view.Words)))
	}
}

// sameStanding reports whether two reports differ in nothing but when they were made: such a one costs no write.
func sameStanding(a, b contract.LinkStanding) bool {
	timeless := func(v contract.LinkStanding) contract.LinkStanding {
		v.Reported, v.Sources = time.Time{}, slices.Clone(v.Sources)
		for i := range v.Sources {
			v.Sources[i].At = time.Time{}
		}
		return v
	}
	return reflect.DeepEqual(timeless(a), timeless(b))
}

func orWords(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// refusalsMost bounds what is kept of refusals of one link.
const refusalsMost = 4

// NoteRefusal keeps, for those who look after the site, that something of a link was refused. The caller learns nothing of it.
func (e *Engine) NoteRefusal(linkID int64, reason string, from netip.Addr) {
	if e.noteRefused(linkID, reason, from, false) {
		p, l, _ := e.record.SiteOfLink(linkID)
		e.log.Warn("an announcement was refused", "site", p.Code, "link", l.Label, "from", from, "because", reason)
		e.faults.review(p.ID)
	}
}

// NoteStranger keeps that somebody tried something in a site's name without showing anything of the site's. Anybody can cause that,
// as often as they like: it is a note at the site, never a fault.
func (e *Engine) NoteStranger(linkID int64, reason string, from netip.Addr) {
	e.noteRefused(linkID, reason, from, true)
}

// noteRefused counts a refusal. first is true for one that is not among those which are kept.
func (e *Engine) noteRefused(linkID int64, reason string, from netip.Addr, stranger bool) (first bool) {
	p, l, ok := e.record.SiteOfLink(linkID)
	if !ok {
		return false
	}
	now := e.now()
	e.standings.with(linkID, func(s *linkStanding) {
		list := slices.DeleteFunc(slices.Clone(s.view.Refused), func(r contract.Refusal) bool { return now.Sub(r.Last) > refusedFor })
		i := slices.IndexFunc(list, func(r contract.Refusal) bool { return r.Reason == reason })
		if i < 0 {
			list = append(list, contract.Refusal{Reason: reason, First: now, Stranger: stranger})
			i, first = len(list)-1, true
		}
		list[i].Count++
		list[i].Last, list[i].From = now, from.String()
		s.view.Refused = list[max(0, len(list)-refusalsMost):]
		e.standings.dirty[linkID] = true
	})
	e.Events.Note(events.LinkReport, p.Code, l.Label, reason)
	return first
}

// refusedFor is how long a refusal is told of.
const refusedFor = time.Hour

// called notes that a router without an agent announced for a link: overdue is judged by its own rhythm.
func (e *Engine) called(linkID int64) {
	now := e.now()
	e.standings.with(linkID, func(s *linkStanding) {
		if n := len(s.calls); n > 0 && now.Sub(s.calls[n-1]) < time.Second {
			return // one call for each family, or for each hostname
		}
		s.calls = append(s.calls, now)
		s.calls = s.calls[max(0, len(s.calls)-wan.RhythmMost):]
		every, ok := wan.Rhythm(s.calls)
		if !ok && len(s.calls) < 5 {
			return // what was known before a restart stays until there is more
		}
		if !ok {
			every = 0
		}
		if seconds := every.Round(time.Second).Seconds(); seconds != s.view.Rhythm {
			s.view.Rhythm = seconds
			e.standings.dirty[linkID] = true
		}
	})
}

// LinkAt finds the link that has an address, so that what comes from there can be told to those who look after its site.
func (e *Engine) LinkAt(address netip.Addr) (int64, bool) {
	for _, p := range e.record.Sites() {
		for l := range p.EachLink() {
			if l.IPv4 == address || l.IPv6 == address {
				return l.ID, true
			}
		}
	}
	return 0, false
}

// HeartbeatPassword gives the password of an agent's STUN credential, "" for none.
func (e *Engine) HeartbeatPassword(username string) string {
	password, _ := e.record.Credential(username)
	return password
}

// NoteHeartbeat notes that an agent was heard by STUN. From another address than the link's it says nothing of the link: the agent goes
// on to report.
func (e *Engine) NoteHeartbeat(username string, from netip.Addr) {
	_, linkID := e.record.Credential(username)
	if _, l, ok := e.record.SiteOfLink(linkID); ok && l.Addresses().Of(from.Is6()) == from {
		e.heard.note(linkID, e.now())
	}
}

// FirstLink gives the preferred link of a site by its code; 0 where there is none.
func (e *Engine) FirstLink(code string) int64 {
	p, ok := e.record.SiteByCode(code)
	if !ok {
		return 0
	}
	l, _ := p.Preferred()
	return l.ID
}
