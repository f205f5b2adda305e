package engine

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/engine/mirror"
	"inkpost.example/inkpost/internal/store"
)

// tellWait is how long accepted moves are collected before members hear of them.
const tellWait = 40 * time.Millisecond

// runTellMembers tells members that moves were accepted.
func (e *Engine) runTellMembers(ctx context.Context) {
	for {
		select {
		case <-e.Accepted():
		case <-ctx.Done():
			return
		}
		if err := e.rooms.Store.TellMoves(ctx); err != nil && ctx.Err() == nil {
			e.rooms.Log.Warn("members could not be notified of moves; they poll", "error", err)
		}
		select {
		case <-time.After(tellWait):
		case <-ctx.Done():
		}
	}
}

// raiseSerials has zones whose serial was seen newer somewhere go on after that: the database was restored from an older dump, and
// secondaries take nothing that goes back (RFC 1982). where says where it was seen.
func (e *Engine) raiseSerials(ctx context.Context, seen map[string]uint32, where string) error {
	raised := map[int64]uint32{}
	for _, z := range e.rooms.Record.Zones() {
		if was, known := seen[string(z.Apex)]; known && names.SerialAfter(was, z.Serial) {
			raised[z.ID] = names.NextSerial(was)
			e.rooms.Log.Warn("a zone's serial had gone back, as after a restore; it goes on after the one that was seen", "zone",
				z.Apex, "recorded", z.Serial,
				"seen", was, "where", where, "next", raised[z.ID])
		}
	}
	if len(raised) == 0 {
		return nil
	}
	if err := e.rooms.Store.Together(ctx, func(tx *store.Store) error { return tx.RaiseSerials(ctx, raised) }); err != nil {
		return err
	}
	e.rooms.Record.SetSerials(raised)
	return nil
}

// Follow keeps memory and zones in line with what another server writes, until ctx ends.
func (e *Engine) Follow(ctx context.Context) {
	defer context.AfterFunc(ctx, func() { close(e.stopping) })()
	e.Following.Run(ctx)
}

// Tell begins to tell another server what this one knows. It is to be closed.
func (e *Engine) Tell() *mirror.Telling { return mirror.Tell(e.rooms, e.stopping) }
