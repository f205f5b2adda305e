// Package following keeps the memory of a server in line with what another one writes and knows, for as long as that one writes. It owns
// how far it is. It never decides anything, and writes nothing.
//
// No lock may be held when it is called.
package following

import (
	"context"
	"maps"
	"slices"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// Following is the room. It is safe for concurrent use.
type Following struct {
	*rooms.Rooms
	*changes.Changes
	sees  atomic.Bool  // it knows what the server that writes knows
	heard atomic.Bool  // it hears that one
	asks  chan catchUp // asks Run to read what was written
}

// New returns a room that follows nobody yet.
func New(r *rooms.Rooms, c *changes.Changes) *Following {
	return &Following{Rooms: r, Changes: c, asks: make(chan catchUp)}
}

// Loops of a member: a standby answers what the writer writes.
const (
	// memberEvery is how often a member polls, notified or not.
	memberEvery = 5 * time.Second
	// memberAgain is how soon after an edit that was heard of and read a member reads the whole record again, in case something was missed.
	memberAgain = time.Minute
	// memberPause is the least time between two polls.
	memberPause = 50 * time.Millisecond
)

// Run keeps memory and zones in line with what another server writes, until ctx ends.
func (e *Following) Run(ctx context.Context) {
	told := make(chan string, 64)
	go func() {
		for ctx.Err() == nil {
			err := e.Store.Listen(ctx, func(channel string) {
				select {
				case told <- channel:
				default: // so many wait that this one is among them
				}
			})
			if ctx.Err() == nil {
				e.Log.Warn("the database's notifications stopped; listening again", "error", err)
				select {
				case <-time.After(time.Second):
				case <-ctx.Done():
				}
			}
		}
	}()
	go func() {
		if err := e.Moves.ReadPatterns(ctx); err != nil && ctx.Err() == nil {
			e.Log.Warn("the rhythms of past moves could not be read", "error", err)
		}
	}()
	tick := time.NewTicker(memberEvery)
	defer tick.Stop()
	var position int64
	var due time.Time // when the whole record is read again, although what was edited of it was read
	var todo duty
	hear := func(channel string) {
		switch {
		case channel == store.ChannelRecord && e.sees.Load(): // it hears what was edited
			if due.IsZero() {
				due = time.Now().Add(memberAgain)
			}
		case channel != store.ChannelMoves:
			todo.whole = true
		}
	}
	for {
		if len(todo.done) == 0 {
			select {
			case channel := <-told:
				hear(channel)
			case now := <-tick.C:
				todo.whole, todo.every = !e.sees.Load() || !due.IsZero() && now.After(due), true
			case one := <-e.asks:
				todo.add(one)
			case <-ctx.Done():
				return
			}
		}
	collect:
		for {
			select {
			case channel := <-told:
				hear(channel)
			case one := <-e.asks:
				todo.add(one)
			default:
				break collect
			}
		}
		if todo.whole {
			due = time.Time{}
		}
		bounded, cancel := context.WithTimeout(ctx, changes.Limit)
		err := e.takeOver(bounded, todo, &position)
		cancel()
		for _, done := range todo.done {
			done <- err
		}
		todo = duty{}
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("what another server wrote could not be read; retrying", "error", err)
			todo.whole = true
		}
		select {
		case <-time.After(memberPause):
		case one := <-e.asks:
			todo.add(one)
		case <-ctx.Done():
		}
	}
}

// duty is what is to be read: moves, what edits touched, or the whole record; with every, serials of all zones; and who waits for that.
type duty struct {
	whole bool
	every bool
	edits []record.Touched
	done  []chan error
}

func (d *duty) add(one catchUp) {
	d.edits, d.done = append(d.edits, one.edits...), append(d.done, one.done)
	for _, t := range one.edits {
		d.whole = d.whole || t.Whole
	}
}

// takeOver takes over what another server has written: what was edited, and moves after position.
func (e *Following) takeOver(ctx context.Context, todo duty, position *int64) error {
	if todo.whole {
		newest, err := e.Store.NewestMove(ctx) // before the record is read: what arrives meanwhile is taken again
		if err != nil {
			return err
		}
		d, err := e.Record.LoadNow(ctx, e.Store)
		if err != nil {
			return err
		}
		*position = newest
		if err := e.Mirror(d); err != nil {
			return err
		}
		if err := e.readStates(ctx); err != nil {
			return err
		}
	} else {
		for _, t := range todo.edits {
			d, err := e.Record.ReloadNow(ctx, e.Store, t)
			if err != nil {
				return err
			}
			if err := e.Mirror(d); err != nil {
				return err
			}
		}
	}
	g, err := e.Store.Follow(ctx, *position, todo.every || todo.whole || len(todo.edits) > 0)
	if err != nil {
		return err
	}
	return e.takeMoves(g, position)
}

// takeMoves has memory and zones follow moves that another server accepted.
func (e *Following) takeMoves(g store.Group, position *int64) error {
	moved, sites := map[int64]bool{}, map[int64]record.Site{}
	var links []site.Link
	for _, c := range g.Changes {
		_, l, ok := e.Record.SiteOfLink(c.LinkID)
		if !ok {
			continue
		}
		links, moved[l.ID] = append(links, c.On(l)), true
		e.Moves.Changed(l.ID, c.Noticed)
		*position = max(*position, c.ID)
	}
	e.Record.SetLinks(links)
	newer := map[int64]uint32{}
	for id, serial := range g.Serials {
		if z := e.Record.Zone(id); z.ID != 0 && z.Serial != serial {
			newer[id] = serial
		}
	}
	e.Record.SetSerials(newer)
	for _, c := range g.Changes {
		if p, ok := e.Record.Site(c.SiteID); ok {
			sites[c.SiteID] = p
		}
	}
	return e.Publish(slices.Collect(maps.Values(sites)), func(p record.Site) []site.Hostname { return p.Following(moved) }, newer)
}

// readStates reads what is kept of states: commissionings and planned work, and where it is not known better those of services and the
// open faults. Error: that of the database.
func (e *Following) readStates(ctx context.Context) error {
	if err := e.Runs.Read(ctx); err != nil {
		return err
	}
	if e.sees.Load() {
		return e.Faults.ReadWork(ctx)
	}
	states, err := e.Store.ServiceStates(ctx)
	if err != nil {
		return err
	}
	e.Prober.SetStates(states)
	return e.Faults.Resume(ctx)
}
