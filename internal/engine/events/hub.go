// Package events tells whoever subscribes what has just happened. It owns the newest events, which it keeps for subscribers that
// were away for a moment, and nothing else: it never decides, never writes to the database and never waits for a subscriber.
//
// Any lock may be held when a Hub is called: it calls nobody.
package events

import (
	"strconv"
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
}

// maxKept is how many events a subscriber that was away can catch up on.
const maxKept = 1024

// Hub hands events to its subscribers. It is safe for concurrent use.
type Hub struct {
	now  func() time.Time
	mu   locks.Leaf
	last uint64
	kept []Event
	subs map[*Subscription]struct{}

	noted map[string]time.Time // when Note last published something
}

// Subscription receives events on C. When the receiver is too slow to keep up, Lost is closed and C falls silent: it has to read
// everything again.
type Subscription struct {
	C    chan Event
	Lost chan struct{}
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
	ev := Event{ID: strconv.FormatUint(h.last, 10), Kind: kind, Site: site, Part: part, Words: words, At: h.now()}
	if h.kept = append(h.kept, ev); len(h.kept) > maxKept {
		h.kept = append(h.kept[:0:0], h.kept[len(h.kept)-maxKept/2:]...)
	}
	for s := range h.subs {
		select {
		case s.C <- ev:
		default:
			delete(h.subs, s)
			close(s.Lost)
		}
	}
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

// Close ends every subscription as lost: from now on another server publishes.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for s := range h.subs {
		delete(h.subs, s)
		close(s.Lost)
	}
}

// Subscribe starts to receive events: first the kept ones that followed the event with the ID after, then new ones. complete reports
// whether no event in between is missing. With an empty after it starts with the next event.
func (h *Hub) Subscribe(after string) (s *Subscription, complete bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	var missed []Event
	complete = true
	if after != "" {
		complete = false
		for i, ev := range h.kept {
			if ev.ID == after {
				missed, complete = h.kept[i+1:], true
			}
		}
		complete = complete || after == strconv.FormatUint(h.last, 10)
	}
	s = &Subscription{C: make(chan Event, 256+len(missed)), Lost: make(chan struct{})}
	for _, ev := range missed {
		s.C <- ev
	}
	h.subs[s] = struct{}{}
	return s, complete
}

// Unsubscribe ends a subscription.
func (h *Hub) Unsubscribe(s *Subscription) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.subs, s)
}
