// Package events tells whoever subscribes what has just happened. It owns the newest events, which it keeps for subscribers that
// were away for a moment, and nothing else: it never decides, never writes to the database and never waits for a subscriber.
//
// Any lock may be held when a Hub is called: it calls nobody.
package events

import (
	"strconv"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/locks"
)

// Kind is what an event is about.
type Kind string

// Kinds of events: the words of the API, which are the only thing that this room has of it.
const (
	LANSeen        Kind = contract.EventLANSeen
	LinkReport     Kind = contract.EventLinkReport
	MoveRecorded   Kind = contract.EventMoveRecorded
	MoveProgressed Kind = contract.EventMoveProgressed
	ServiceOutcome Kind = contract.EventServiceOutcome
	ServiceState   Kind = contract.EventServiceState
	FaultOpened    Kind = contract.EventFaultOpened
	FaultClosed    Kind = contract.EventFaultClosed
	FaultChanged   Kind = contract.EventFaultChanged
	HostnameState  Kind = contract.EventHostnameState
	RecordEdited   Kind = contract.EventRecordEdited
	Vantage        Kind = contract.EventVantage
	Commissioning  Kind = contract.EventCommissioning
)

// Event is one thing that happened.
type Event struct {
	ID    string
	Kind  Kind
	Site  string // code of the site that it concerns; "" for none in particular
	Part  string // of the site: a link, a hostname, a service
	Words string
	At    time.Time
	shown *shown
}

// shown is an event as it is sent, made once for all that receive it.
type shown struct {
	once sync.Once
	text []byte
}

// Shown is the event as f shows it. f is called once, however many ask; the text must not be changed.
func (ev Event) Shown(f func(Event) []byte) []byte {
	ev.shown.once.Do(func() { ev.shown.text = f(ev) })
	return ev.shown.text
}

// maxKept is how many events a subscriber that was away, or is slow, can catch up on.
const maxKept = 8192

// Hub hands events to its subscribers. It is safe for concurrent use.
type Hub struct {
	now    func() time.Time
	mu     locks.Leaf
	last   uint64
	kept   []Event // the newest ones, without a gap
	closed bool
	subs   map[*Subscription]struct{}

	noted map[string]time.Time // when Note last published something
}

// Subscription is a place among the events: what follows is still to be taken. News has one when there may be something to take.
type Subscription struct {
	News chan struct{}
	hub  *Hub
	at   uint64
}

// NewHub returns a hub without subscribers. Event IDs start at the current time in microseconds, so that an ID of an earlier run is
// not mistaken for one of this run.
func NewHub(now func() time.Time) *Hub {
	return &Hub{now: now, last: uint64(now().UnixMicro()), subs: map[*Subscription]struct{}{}, noted: map[string]time.Time{}}
}

// Position is how many events there were: as long as it stays the same, nobody has told of anything.
func (h *Hub) Position() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.last
}

// Publish hands an event to every subscriber. It does not block.
func (h *Hub) Publish(kind Kind, site, part, words string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last++
	ev := Event{ID: strconv.FormatUint(h.last, 10), Kind: kind, Site: site, Part: part, Words: words, At: h.now(), shown: &shown{}}
	h.keep(ev)
}

// Put publishes an event of another server, with the ID that it has there. Where others are missing before it, whoever listens has to read
// everything again.
func (h *Hub) Put(ev Event) {
	id, err := strconv.ParseUint(ev.ID, 10, 64)
	if err != nil {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if id != h.last+1 {
		h.kept = nil
	}
	h.last, ev.shown = id, &shown{}
	h.keep(ev)
}

// Begin has what follows be counted from where another server is. Whoever listens already has to read everything again, unless this hub
// is there, too.
func (h *Hub) Begin(position uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if position != h.last {
		h.last, h.kept = position, nil
		h.rouse()
	}
}

// At is up to where events were taken.
func (s *Subscription) At() uint64 {
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	return s.at
}

// keep takes in the newest event. The caller holds the lock.
func (h *Hub) keep(ev Event) {
	if h.kept = append(h.kept, ev); len(h.kept) > maxKept {
		h.kept = append(h.kept[:0:0], h.kept[len(h.kept)-maxKept/2:]...)
	}
	h.rouse()
}

// rouse tells subscribers that there is something. The caller holds the lock.
func (h *Hub) rouse() {
	for s := range h.subs {
		select {
		case s.News <- struct{}{}:
		default:
		}
	}
}

// Take returns up to most events that followed, in order. ok is false when some of them are no longer kept, or another server publishes
// from now on: the receiver has to read everything again.
func (s *Subscription) Take(most int) (list []Event, ok bool) {
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	waiting := s.hub.last - s.at
	if s.hub.closed || waiting > uint64(len(s.hub.kept)) {
		return nil, false
	}
	list = s.hub.kept[uint64(len(s.hub.kept))-waiting:]
	if len(list) > most {
		list = list[:most]
		select { // there is more
		case s.News <- struct{}{}:
		default:
		}
	}
	s.at += uint64(len(list))
	return list, true
}

// noteEvery is the shortest time between two equal events that anybody can cause from outside.
const noteEvery = 10 * time.Second

// Note is Publish for what outsiders can cause at will: equal events are published once every 10 seconds.
func (h *Hub) Note(kind Kind, site, part, words string) {
	now, key := h.now(), string(kind)+" "+site+" "+part+" "+words
	h.mu.Lock()
	if len(h.noted) > maxKept {
		clear(h.noted)
	}
	soon := now.Sub(h.noted[key]) < noteEvery
	if !soon {
		h.noted[key] = now
	}
	h.mu.Unlock()
	if !soon {
		h.Publish(kind, site, part, words)
	}
}

// Close ends every subscription: from now on another server publishes.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	h.rouse()
}

// Subscribe starts to receive events: first the kept ones that followed the event with the ID after, then new ones. complete reports
// whether no event in between is missing. With an empty after it starts with the next event.
func (h *Hub) Subscribe(after string) (s *Subscription, complete bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	s = &Subscription{News: make(chan struct{}, 1), hub: h, at: h.last}
	h.subs[s] = struct{}{}
	if after == "" {
		return s, true
	}
	at, err := strconv.ParseUint(after, 10, 64)
	if err != nil || at > h.last || h.last-at > uint64(len(h.kept)) {
		return s, false
	}
	if s.at = at; at < h.last {
		s.News <- struct{}{}
	}
	return s, true
}

// Unsubscribe ends a subscription.
func (h *Hub) Unsubscribe(s *Subscription) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.subs, s)
}
