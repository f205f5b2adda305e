package engine

import (
	"context"
	"errors"
	"reflect"
	"time"

	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/marks"
	"inkpost.example/inkpost/internal/engine/mirror"
	"inkpost.example/inkpost/internal/store"
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
	// movesAtOnce is how many moves and stages are told that the tables do not have yet; where there are more, nobody looks at each.
	movesAtOnce = 2000
	// catchUpWait is how long what happened waits for the record that it is about.
	catchUpWait = 2 * time.Second
)

// catchUp asks Follow to read what was written, the whole record or moves, and is told when that is done.
type catchUp struct {
	whole bool
	done  chan struct{}
}

// Telling is how another server is told what this one knows.
type Telling struct {
	e       *Engine
	set     *marks.Set
	sub     *events.Subscription
	left    map[int64]struct{} // sites that are to be told
	round   []int64            // sites whose turn is still to come
	began   time.Time          // when the round did
	turn    time.Time          // when sites last had theirs
	said    time.Time
	own     mirror.Own
	areas   []store.Fault
	moves   int
	whole   bool // every site was told
	unheard bool
}

// Tell begins to tell another server: first of all sites, then of what changes. It is to be closed.
func (e *Engine) Tell() *Telling {
	t := &Telling{e: e, set: e.rooms.Marks.Keep(), left: map[int64]struct{}{}}
	t.sub, _ = e.Events.Subscribe("")
	for _, id := range e.rooms.Record.SiteIDs() {
		t.left[id] = struct{}{}
	}
	return t
}

// Close ends it.
func (t *Telling) Close() {
	t.set.Close()
	t.e.Events.Unsubscribe(t.sub)
}

// Next returns what is to be told now, at the latest after two seconds. ok is false when it ends: the other has to begin again.
func (t *Telling) Next(ctx context.Context) (n mirror.News, ok bool) {
	for {
		n, some := t.collect()
		if some || t.unheard {
			return n, !t.unheard
		}
		select {
		case <-time.After(tellEvery):
		case <-t.e.stopping:
			return n, false
		case <-ctx.Done():
			return n, false
		}
	}
}

// collect gathers what is to be told now.
func (t *Telling) collect() (n mirror.News, some bool) {
	r := t.e.rooms
	list, ok := t.sub.Take(movesAtOnce)
	t.unheard = !ok
	moved := false
	for _, ev := range list {
		n.Events = append(n.Events, mirror.Event{ID: ev.ID, Kind: ev.Kind, Site: ev.Site, Part: ev.Part, Words: ev.Words, At: ev.At})
		moved = moved || ev.Kind == events.MoveRecorded || ev.Kind == events.MoveProgressed
		if p, known := r.Record.SiteByCode(ev.Site); known {
			t.left[p.ID] = struct{}{}
		}
	}
	for id := range t.set.Take() {
		t.left[id] = struct{}{}
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
	for id := range t.left {
		if len(n.Sites) == sitesAtOnce {
			break
		}
		delete(t.left, id)
		if one, ok := mirror.Copy(r, id); ok {
			n.Sites = append(n.Sites, one)
			if one.Unwritten() {
				r.Marks.Note(id) // until the database has given it a number
			}
		}
	}
	if len(t.left) == 0 && !t.whole {
		t.whole, n.Whole = true, true
	}
	if moved {
		n.Moves = &mirror.Moves{}
		n.Moves.Changes, n.Moves.Stages = r.Moves.Waiting(movesAtOnce)
	}
	alive := now.Sub(t.said) >= aliveEvery
	if some = len(n.Events)+len(n.Sites) > 0 || n.Whole || alive; !some {
		return n, false
	}
	t.said, n.Position = now, t.sub.At()
	n.Areas = mirror.Areas(r)
	if own := mirror.CopyOwn(r); !reflect.DeepEqual(own, t.own) {
		n.Own, t.own = &own, own
	}
	return n, true
}

var errNotFollowed = errors.New("what was written is not read")

// Show takes over what another server knows. What happened is told once the record has it. Error: a record that cannot be read.
func (e *Engine) Show(ctx context.Context, n mirror.News) error {
	whole, moved := false, false
	for _, ev := range n.Events {
		whole = whole || ev.Kind == events.RecordEdited || ev.Kind == events.Commissioning
		moved = moved || ev.Kind == events.MoveRecorded
	}
	if whole || moved {
		if err := e.follow(ctx, whole); err != nil {
			return err
		}
	}
	r := e.rooms
	for _, one := range n.Sites {
		mirror.Show(r, one)
	}
	r.Faults.Show(0, n.Areas, nil)
	if n.Own != nil {
		mirror.ShowOwn(r, *n.Own)
	}
	if n.Moves != nil {
		r.Moves.Show(n.Moves.Changes, n.Moves.Stages)
	}
	for _, ev := range n.Events {
		e.Events.Put(events.Event{ID: ev.ID, Kind: ev.Kind, Site: ev.Site, Part: ev.Part, Words: ev.Words, At: ev.At})
	}
	if n.Whole {
		e.Events.Begin(n.Position)
		e.sees.Store(true)
	}
	return nil
}

// Blind notes that this server no longer hears what the one that writes knows.
func (e *Engine) Blind() { e.sees.Store(false) }

// Sees reports whether this server knows what the one that writes knows, as it happens.
func (e *Engine) Sees() bool { return e.sees.Load() }

// follow has Follow read what was written, and waits until it has.
func (e *Engine) follow(ctx context.Context, whole bool) error {
	ctx, cancel := context.WithTimeout(ctx, catchUpWait)
	defer cancel()
	one := catchUp{whole, make(chan struct{})}
	select {
	case e.catchUp <- one:
	case <-ctx.Done():
		return errNotFollowed
	}
	select {
	case <-one.done:
		return nil
	case <-ctx.Done():
		return errNotFollowed
	}
}
