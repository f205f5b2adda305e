package mirror

import (
	"context"
	"reflect"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/marks"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/rooms"
)

const (
	// tellEvery is how long news is collected before other servers are told, and aliveEvery how often they are told something at least.
	tellEvery  = 20 * time.Millisecond
	aliveEvery = 2 * time.Second
	// sitesAtOnce is how many sites are told in one go at most.
	sitesAtOnce = 200
	// roundEvery is how often every site is told although nothing happened there, for the times of what is as it was, and roundSites how
	// many a second at most.
	roundEvery = 5 * time.Second
	roundSites = 300
	// movesAtOnce is how many moves and stages are told in one go that the tables do not have yet.
	movesAtOnce = 2000
)

// Telling is how another server is told what this one knows.
type Telling struct {
	r       *rooms.Rooms
	ending  <-chan struct{}
	set     *marks.Set
	sub     *events.Subscription
	left    map[int64]struct{} // sites that are to be told
	round   []int64            // sites whose turn is still to come
	began   time.Time          // when the round did
	turn    time.Time          // when sites last had theirs
	said    time.Time
	own     Own
	moves   moves.Told
	whole   bool // every site was told
	unheard bool
}

// Tell begins to tell another server: first of all sites, then of what changes, until ending is closed. It is to be closed.
func Tell(r *rooms.Rooms, ending <-chan struct{}) *Telling {
	t := &Telling{r: r, ending: ending, set: r.Marks.Keep(), left: map[int64]struct{}{}}
	t.sub, _ = r.Events.Subscribe("")
	for _, id := range r.Record.SiteIDs() {
		t.left[id] = struct{}{}
	}
	return t
}

// Close ends it.
func (t *Telling) Close() {
	t.set.Close()
	t.r.Events.Unsubscribe(t.sub)
}

// Next returns what is to be told now, at the latest after two seconds. ok is false when it ends: the other has to begin again.
func (t *Telling) Next(ctx context.Context) (n News, ok bool) {
	for {
		n, some := t.collect()
		if some || t.unheard {
			return n, !t.unheard
		}
		select {
		case <-time.After(tellEvery):
		case <-t.ending:
			return n, false
		case <-ctx.Done():
			return n, false
		}
	}
}

// collect gathers what is to be told now.
func (t *Telling) collect() (n News, some bool) {
	r := t.r
	list, ok := t.sub.Take(movesAtOnce)
	t.unheard = !ok
	moved, first := false, []int64(nil)
	for _, ev := range list {
		n.Events = append(n.Events, Event{ID: ev.ID, Kind: ev.Kind, Site: ev.Site, Part: ev.Part, Words: ev.Words, At: ev.At})
		moved = moved || ev.Kind == events.MoveRecorded || ev.Kind == events.MoveProgressed
		if p, known := r.Record.SiteByCode(ev.Site); known && !slices.Contains(first, p.ID) {
			first = append(first, p.ID)
		}
	}
	sites, edits := t.set.Take()
	for id := range sites {
		t.left[id] = struct{}{}
	}
	for _, edit := range edits {
		edit.Parts = edit.Parts.Told()
		n.Edits = append(n.Edits, edit)
	}
	now := r.Ticks()
	if len(t.round) == 0 && t.whole && now.Sub(t.began) >= roundEvery {
		t.round, t.began, t.turn = r.Record.SiteIDs(), now, now
	}
	if due := min(int(now.Sub(t.turn).Seconds()*roundSites), len(t.round)); due > 0 {
		for _, id := range t.round[:due] {
			t.left[id] = struct{}{}
		}
		t.round, t.turn = t.round[due:], now
	}
	site := func(id int64) {
		delete(t.left, id)
		if one, ok := Copy(r, id); ok {
			n.Sites = append(n.Sites, one)
			if one.Unwritten() {
				r.Marks.Note(id) // until the database has given it a number
			}
		}
	}
	for _, id := range first { // what happened is told with how it is there
		site(id)
	}
	for id := range t.left {
		if len(n.Sites) >= sitesAtOnce {
			break
		}
		site(id)
	}
	if len(t.left) == 0 && !t.whole {
		t.whole, n.Whole = true, true
	}
	if moved {
		waiting := r.Moves.Tell(&t.moves, movesAtOnce)
		n.Moves = &waiting
	}
	alive := now.Sub(t.said) >= aliveEvery
	if some = len(n.Events)+len(n.Sites)+len(n.Edits) > 0 || n.Whole || alive; !some {
		return n, false
	}
	t.said, n.Position = now, t.sub.At()
	n.Areas = Areas(r)
	if own := CopyOwn(r); !reflect.DeepEqual(own, t.own) {
		n.Own, t.own = &own, own
	}
	return n, true
}
