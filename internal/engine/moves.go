package engine

import "sync"

// openMove is a move that is not carried to its end yet: waiting holds the services that have not answered at the new
// address.
type openMove struct {
	id, siteID, linkID int64
	answered           bool
	unseen             bool           // resolvers are asked, and not all of them give the new address yet
	zones              map[int64]bool // remote zones that do not have it yet
	waiting            map[int64]bool
}

// moveTracker holds the newest open move of each link. An older one that was overtaken keeps the stages it reached.
type moveTracker struct {
	mu   sync.Mutex
	open map[int64]*openMove
}

func (t *moveTracker) begin(m *openMove) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.open[m.linkID] = m
	t.drop(m) // one that was resumed may have nothing left to wait for
}

// answered gives the moves of a site that were waiting for the proof that its names answer, and marks them.
func (t *moveTracker) answered(siteID int64) (ids []int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range t.open {
		if m.siteID == siteID && !m.answered {
			m.answered = true
			ids = append(ids, m.id)
			t.drop(m)
		}
	}
	return ids
}

// published gives the moves of a site that were waiting for a remote zone to be brought up to date, and marks them.
func (t *moveTracker) published(siteID, zoneID int64) (ids []int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range t.open {
		if m.siteID == siteID && m.zones[zoneID] {
			delete(m.zones, zoneID)
			ids = append(ids, m.id)
			t.drop(m)
		}
	}
	return ids
}

// seen gives the moves of a site that were waiting for the resolvers, and marks them.
func (t *moveTracker) seen(siteID int64) (ids []int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range t.open {
		if m.siteID == siteID && m.unseen {
			m.unseen = false
			ids = append(ids, m.id)
			t.drop(m)
		}
	}
	return ids
}

// confirmed notes that a service is as expected at the link's address. ok is true for the last one that its move was
// waiting for.
func (t *moveTracker) confirmed(linkID, serviceID int64) (id int64, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	m := t.open[linkID]
	if m == nil || !m.waiting[serviceID] {
		return 0, false
	}
	delete(m.waiting, serviceID)
	if len(m.waiting) > 0 {
		return 0, false
	}
	t.drop(m)
	return m.id, true
}

// drop forgets a move that has nothing left to wait for.
func (t *moveTracker) drop(m *openMove) {
	if m.answered && !m.unseen && len(m.zones) == 0 && len(m.waiting) == 0 {
		delete(t.open, m.linkID)
	}
}
