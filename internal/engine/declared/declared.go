// Package declared compares a record as it is written down in a file with the one that the service has, and brings the latter in step. It
// owns nothing.
//
// No lock of the engine may be held when it is called: Declare takes the edit lock (see package changes).
package declared

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/siteedits"
	"inkpost.example/inkpost/internal/engine/zoneedits"
	"inkpost.example/inkpost/internal/store"
)

// Room is the room.
type Room struct {
	*rooms.Rooms
	*changes.Changes
	Sites *siteedits.SiteEdits
	Zones *zoneedits.ZoneEdits
}

// How says how a file is taken. Progress, which may be nil, is told how many of how many steps are taken.
type How struct {
	Flaws      []declare.LineFlaw // that were found when it was read
	DryRun     bool               // only say what would be
	LineByLine bool               // take what is right, and leave out what is wrong
	Progress   func(done, of int)
}

// limit is the longest that a file may take.
const limit = 2 * time.Minute

// Wrong reports that a file was not taken: nothing of it was.
type Wrong struct{ Flaws []declare.LineFlaw }

func (e Wrong) Error() string {
	if len(e.Flaws) == 1 {
		return "nothing was changed: " + e.Flaws[0].Error()
	}
	return fmt.Sprintf("nothing was changed: %d things are wrong with the file", len(e.Flaws))
}

// Declare brings the record in step with what a file says: all of it or, unless How says otherwise, nothing. What whoever asks does not see
// is not there for them. Errors: Wrong, changes.ErrBusy, changes.ErrCommitted, that of the database.
func (e *Room) Declare(ctx context.Context, items []declare.Item, scope declare.Scope, how How) (contract.Declared, error) {
	ordered, flaws := declare.Arrange(items)
	var out contract.Declared
	err := e.ChangeWithin(ctx, limit, func() (changes.Edit, error) {
		d, err := e.compare(ctx, ordered, scope)
		if err != nil {
			return changes.Edit{}, err
		}
		out = contract.Declared{Steps: d.steps, Unchanged: d.unchanged, Flaws: slices.Concat(how.Flaws, flaws, d.flaws)}
		slices.SortStableFunc(out.Flaws, func(a, b declare.LineFlaw) int { return cmp.Compare(a.Line, b.Line) })
		switch {
		case how.DryRun, len(d.writes) == 0 && (how.LineByLine || len(out.Flaws) == 0):
			return changes.Edit{}, errNothing
		case len(out.Flaws) > 0 && !how.LineByLine:
			return changes.Edit{}, Wrong{out.Flaws}
		}
		return d.edit(how.Progress), nil
	})
	if err == errNothing {
		out.Done = !how.DryRun
		return out, nil
	}
	out.Done = err == nil
	return out, err
}

// errNothing ends an edit that has nothing to write.
var errNothing = fmt.Errorf("nothing is to be changed")

// few is how many sites are read back one by one; beyond, the whole record is.
const few = 8

// edit returns what writes all steps.
func (d *draft) edit(progress func(done, of int)) changes.Edit {
	touched, moves := &record.Touched{}, &store.Group{Serials: map[int64]uint32{}}
	return changes.Edit{Words: fmt.Sprintf("%d changes by a file", len(d.writes)), Touched: touched, Moves: moves,
		Write: func(ctx context.Context, tx *store.Store) error {
			w := &writing{tx: tx, ids: map[int64]int64{}, moves: moves}
			for i, write := range d.writes {
				if err := write(ctx, w); err != nil {
					return err
				}
				if progress != nil {
					progress(i+1, len(d.writes))
				}
			}
			if len(w.zones) > 0 {
				if _, err := tx.BumpSerials(ctx, w.zones); err != nil {
					return err
				}
			}
			touched.Whole = len(d.touched) > few
			for id := range d.touched {
				touched.Sites = append(touched.Sites, w.id(id))
			}
			return d.e.Sites.AcceptStatic(ctx, tx, moves)
		}}
}

// writing is one transaction. IDs below zero stand for what the transaction puts on record; ids has what they became.
type writing struct {
	tx    *store.Store
	ids   map[int64]int64
	moves *store.Group
	zones []int64 // whose serials go up
}

func (w *writing) id(id int64) int64 {
	if id < 0 {
		return w.ids[id]
	}
	return id
}
