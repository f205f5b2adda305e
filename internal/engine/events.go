package engine

import (
	"strconv"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

// keptEvents is how many events a client that was away can catch up on.
const keptEvents = 1024

// Hub hands events to everyone who listens.
type Hub struct {
	now  func() time.Time
	mu   sync.Mutex
	last uint64
	kept []contract.Event
	subs map[*Subscription]struct{}

	noted map[string]time.Time // when Note told of what
}

// Subscription receives events on C. Lost is closed, and C falls silent, where the receiver is too slow to keep up: it has
// to read everything anew.
type Subscription struct {
	C    chan contract.Event
	Lost chan struct{}
}

// NewHub makes a hub. Event IDs begin where the clock stands, so that those of an earlier run are not taken for its own.
func NewHub(now func() time.Time) *Hub {
	return &Hub{now: now, last: uint64(now().UnixMicro()), subs: map[*Subscription]struct{}{}, noted: map[string]time.Time{}}
}

// Publish tells of one thing that happened at a site (its code), on one part of it, in words.
func (h *Hub) Publish(kind, site, part, words string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last++
	ev := contract.Event{SpecVersion: "1.0", ID: strconv.FormatUint(h.last, 10), Source: "/inkpost", Type: kind, Subject: site,
		Time: h.now(), Data: contract.EventData{Site: site, Part: part, Words: words}}
	if h.kept = append(h.kept, ev); len(h.kept) > keptEvents {
		h.kept = append(h.kept[:0:0], h.kept[len(h.kept)-keptEvents/2:]...)
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

// noteEvery is how often the same thing is told of, where it can be caused from outside as often as somebody likes.
const noteEvery = 10 * time.Second

// Note is Publish for what may happen very often: the same words of the same site are told once in noteEvery.
func (h *Hub) Note(kind, site, part, words string) {
	now, key := h.now(), kind+" "+site+" "+part+" "+words
	h.mu.Lock()
	if len(h.noted) > keptEvents {
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

// Close tells everyone who listens to read everything anew: another server, or another run, publishes from now on.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for s := range h.subs {
		delete(h.subs, s)
		close(s.Lost)
	}
}

// Subscribe starts to receive events: those kept that came after the event with the ID after, then new ones. complete is
// false where events in between are no longer kept. An empty after starts now.
func (h *Hub) Subscribe(after string) (s *Subscription, complete bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	var missed []contract.Event
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
	s = &Subscription{C: make(chan contract.Event, 256+len(missed)), Lost: make(chan struct{})}
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
