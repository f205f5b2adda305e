package moves

import (
	"maps"
	"time"

	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Open is a move that has not been carried to its end yet, and what it still waits for.
type Open struct {
	ID, SiteID, LinkID int64
	Noticed            time.Time      // zero where that is not known any more
	Answered           bool           // the zone's servers gave the new address
	Unseen             bool           // resolvers are asked, and not all of them give the new address yet
	Zones              map[int64]bool // remote zones that do not have the new address yet
	Waiting            map[int64]bool // services that have not answered at the new address yet
}

// openMoves holds the newest open move of each link. An older one that was overtaken keeps the stages that it has reached.
type openMoves struct {
	mu     locks.Leaf
	byLink map[int64]*Open
}

func (t *openMoves) begin(m *Open) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.byLink[m.LinkID] = m
	t.drop(m) // one that was resumed may have nothing left to wait for
}

// mark applies reached to the open moves of a site and returns the IDs of those for which it reports true.
func (t *openMoves) mark(siteID int64, reached func(*Open) bool) (those []Open) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range t.byLink {
		if m.SiteID == siteID && reached(m) {
			one := *m
			one.Zones = maps.Clone(m.Zones) // what is returned is read without the lock
			those = append(those, one)
			t.drop(m)
		}
	}
	return those
}

func (t *openMoves) answered(siteID int64) []Open {
	return t.mark(siteID, func(m *Open) bool {
		first := !m.Answered
		m.Answered = true
		return first
	})
}

func (t *openMoves) published(siteID, zoneID int64) []Open {
	return t.mark(siteID, func(m *Open) bool {
		waited := m.Zones[zoneID]
		delete(m.Zones, zoneID)
		return waited
	})
}

func (t *openMoves) seen(siteID int64) []Open {
	return t.mark(siteID, func(m *Open) bool {
		waited := m.Unseen
		m.Unseen = false
		return waited
	})
}

// confirmed takes a service off the list of those that the link's open move waits for. ok reports whether it was the last one.
func (t *openMoves) confirmed(linkID, serviceID int64) (of Open, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	m := t.byLink[linkID]
	if m == nil || !m.Waiting[serviceID] {
		return Open{}, false
	}
	delete(m.Waiting, serviceID)
	if len(m.Waiting) > 0 {
		return Open{}, false
	}
	t.drop(m)
	return *m, true
}

// drop forgets a move that has nothing left to wait for.
func (t *openMoves) drop(m *Open) {
	if m.Answered && !m.Unseen && len(m.Zones) == 0 && len(m.Waiting) == 0 {
		delete(t.byLink, m.LinkID)
	}
}

// Begin follows a move from now on.
func (m *Moves) Begin(o Open) { m.open.begin(&o) }

// Made counts a move that has just been made, and the stages that it has reached at once, and follows it.
func (m *Moves) Made(o Open, s store.Stages) {
	m.counters.Moved()
	m.counters.Reached(counters.Recorded, o.Noticed, s.Recorded)
	m.counters.Reached(counters.Published, o.Noticed, s.Published)
	m.Begin(o)
	m.Reached(s)
}

// Answered notes that the names of a site give the address of its open moves.
func (m *Moves) Answered(siteID int64, at time.Time) {
	for _, o := range m.open.answered(siteID) {
		m.counters.Reached(counters.Answered, o.Noticed, at)
		m.Reached(store.Stages{MoveID: o.ID, Answered: at})
	}
}

// Published notes that the primary of a remote zone has taken all names of a site.
func (m *Moves) Published(siteID, zoneID int64, at time.Time) {
	for _, o := range m.open.published(siteID, zoneID) {
		if len(o.Zones) == 0 { // the last of its zones
			m.counters.Reached(counters.Published, o.Noticed, at)
		}
		m.Reached(store.Stages{MoveID: o.ID, ZoneID: zoneID, Published: at})
	}
}

// Seen notes that all resolvers give the address of a site's open moves.
func (m *Moves) Seen(siteID int64, at time.Time) {
	for _, o := range m.open.seen(siteID) {
		m.counters.Reached(counters.Seen, o.Noticed, at)
		m.Reached(store.Stages{MoveID: o.ID, Seen: at})
	}
}

// Confirmed notes that a service is as expected at the link's address.
func (m *Moves) Confirmed(linkID, serviceID int64, at time.Time) {
	if o, last := m.open.confirmed(linkID, serviceID); last {
		m.counters.Reached(counters.Confirmed, o.Noticed, at)
		m.Reached(store.Stages{MoveID: o.ID, Confirmed: at})
	}
}

// Forget drops the open moves of links that are gone.
func (m *Moves) Forget(gone record.Gone) {
	m.open.forget(gone.Links)
	m.patterns.forget(gone.Links)
}

func (t *openMoves) forget(links map[int64]bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for id := range links {
		delete(t.byLink, id)
	}
}
