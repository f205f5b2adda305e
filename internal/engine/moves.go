package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store"
)

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

// reached notes that a move has reached a stage. Once the engine stops nobody writes it any more, and nobody waits for that.
func (e *Engine) reached(s store.Stages) {
	select {
	case e.stages <- s:
	case <-e.stopping:
	}
}

// stagesMost is the most stages in one statement.
const stagesMost = 8192

// stagesWait is how long stages are collected before they are written: they come in flocks, and nobody waits for them.
const stagesWait = 50 * time.Millisecond

// runStages writes the stages that moves have reached, as many at once as have come up.
func (e *Engine) runStages(ctx context.Context) {
	for {
		var list []store.Stages
		select {
		case s := <-e.stages:
			list = append(list, s)
		case <-ctx.Done():
			return
		}
		timer := time.NewTimer(stagesWait)
	collect:
		for len(list) < stagesMost {
			select {
			case s := <-e.stages:
				list = append(list, s)
			case <-timer.C:
				break collect
			case <-ctx.Done():
				break collect
			}
		}
		timer.Stop()
		for wait := 100 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
			err := e.noteStages(ctx, list)
			if err == nil || ctx.Err() != nil {
				break
			}
			e.log.Warn("stages of moves not written; trying again", "moves", len(list), "error", err)
			select {
			case <-time.After(wait):
			case <-ctx.Done():
			}
		}
		e.Events.Publish(contract.EventMoveProgressed, "", "", fmt.Sprintf("%d moves went on", len(list)))
	}
}

func (e *Engine) noteStages(ctx context.Context, list []store.Stages) error {
	var plain, zoned []store.Stages
	for _, s := range list {
		if s.ZoneID != 0 {
			zoned = append(zoned, s)
		} else {
			plain = append(plain, s)
		}
	}
	if err := e.store.NoteStages(ctx, merged(plain)); err != nil || len(zoned) == 0 {
		return err
	}
	return e.store.NotePublished(ctx, zoned)
}

// merged puts the stages of one move into one row: a statement may change a row only once.
func merged(list []store.Stages) []store.Stages {
	at := map[int64]int{}
	var out []store.Stages
	for _, s := range list {
		i, there := at[s.MoveID]
		if !there {
			at[s.MoveID] = len(out)
			out = append(out, s)
			continue
		}
		for _, f := range []struct{ to, from *time.Time }{{&out[i].Recorded, &s.Recorded}, {&out[i].Published, &s.Published},
			{&out[i].Answered, &s.Answered}, {&out[i].Seen, &s.Seen}, {&out[i].Confirmed, &s.Confirmed}} {
			if !f.from.IsZero() {
				*f.to = *f.from
			}
		}
	}
	return out
}
