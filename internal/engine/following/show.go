package following

import (
	"context"
	"errors"
	"time"

	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/mirror"
	"inkpost.example/inkpost/internal/engine/record"
)

// catchUpWait is how long what happened waits for the record that it is about.
const catchUpWait = 2 * time.Second

// catchUp asks Run to read moves, and what edits touched. done gets the error of that, or nil.
type catchUp struct {
	edits []record.Touched
	done  chan error
}

var errNotFollowed = errors.New("what was written is not read")

// Show takes over what another server knows. What happened is told once the record has it. Error: a record that cannot be read.
func (e *Following) Show(ctx context.Context, n mirror.News) error {
	r, moved, runs := e.Rooms, false, false
	for _, ev := range n.Events {
		moved = moved || ev.Kind == events.MoveRecorded
		runs = runs || ev.Kind == events.Commissioning
	}
	edits := n.Edits
	if !e.heard.Swap(true) { // what was edited before it was told of is read, too
		edits = []record.Touched{{Whole: true}}
	}
	if moved || len(edits) > 0 {
		if err := e.follow(ctx, edits); err != nil {
			return err
		}
	}
	if runs {
		if err := r.Runs.Read(ctx); err != nil {
			return err
		}
	}
	for _, one := range n.Sites {
		mirror.Show(r, one)
	}
	r.Faults.Show(0, n.Areas, nil)
	if n.Own != nil {
		mirror.ShowOwn(r, *n.Own)
	}
	if n.Moves != nil {
		r.Moves.Show(*n.Moves)
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

// Blind notes that this server no longer hears what the one that writes knows, and Sees reports whether it does.
func (e *Following) Blind()     { e.sees.Store(false); e.heard.Store(false) }
func (e *Following) Sees() bool { return e.sees.Load() }

// follow has Run read what was written, and waits until it has. Error: what could not be read.
func (e *Following) follow(ctx context.Context, edits []record.Touched) error {
	ctx, cancel := context.WithTimeout(ctx, catchUpWait)
	defer cancel()
	one := catchUp{edits, make(chan error, 1)}
	select {
	case e.asks <- one:
	case <-ctx.Done():
		return errNotFollowed
	}
	select {
	case err := <-one.done:
		return err
	case <-ctx.Done():
		return errNotFollowed
	}
}
