package engine

import (
	"context"
	"errors"
	"time"

	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/mirror"
)

// catchUpWait is how long what happened waits for the record that it is about.
const catchUpWait = 2 * time.Second

// Tell begins to tell another server what this one knows. It is to be closed.
func (e *Engine) Tell() *mirror.Telling { return mirror.Tell(e.rooms, e.stopping) }

// catchUp asks Follow to read what was written, the whole record or moves, and is told when that is done.
type catchUp struct {
	whole bool
	done  chan struct{}
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

// Blind notes that this server no longer hears what the one that writes knows, and Sees reports whether it does.
func (e *Engine) Blind()     { e.sees.Store(false) }
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
