package changes

import (
	"context"
	"errors"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// ErrCommitted reports an edit that is on record, but not answered yet because the database went away right after it.
var ErrCommitted = errors.New("the change is recorded; it takes effect as soon as the database answers again")

// Resource is what an edit is about: one row with revisions. The zero resource has none.
type Resource struct {
	Kind     string
	Name     string
	ID       int64
	Revision int64
	Tag      string
}

// Edit is one change of the record, as it was decided on the record of that moment.
type Edit struct {
	Site  string // code of the site that it concerns; "" for none
	Words string // what was done, for those who follow events
	Of    Resource
	// Parts are what of the site it may change; none stands for everything.
	Parts record.Parts
	// Touched is what the edit may change; nil stands for the site. Write may add to it.
	Touched *record.Touched
	// Before and After are what a person would enter, for the log of revisions; nil logs nothing.
	Before, After any
	// Write stores the edit. All of it happens in one transaction.
	Write func(ctx context.Context, tx *store.Store) error
	// Moves are address changes that come with the edit; Write may add to them.
	Moves *store.Group
}

// Limit is the longest that an edit may take, waiting for others included.
const Limit = 12 * time.Second

// Change carries out one edit of the record. decide reads the record as it is while nothing else can change it, checks what is asked and
// returns what has to be written: so two edits at once cannot undo each other. The database changes first, then memory, zones and prober
// follow. Errors: those of decide, ErrBusy, ErrCommitted, that of the database.
func (ch *Changes) Change(ctx context.Context, decide func() (Edit, error)) error {
	return ch.ChangeWithin(ctx, Limit, decide)
}

// ChangeWithin is Change for an edit of many things at once, which may take longer. Nothing else is recorded meanwhile. Errors: those of
// Change.
func (ch *Changes) ChangeWithin(ctx context.Context, limit time.Duration, decide func() (Edit, error)) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	turn, err := ch.Begin(ctx)
	if err != nil {
		return err
	}
	defer turn.Done()
	ed, err := decide()
	if err != nil {
		return err
	}
	if err := ch.Unchanged(ctx, ed.Of); err != nil {
		return err
	}
	touched := ch.touchedBy(ed)
	if err := ch.Store.Together(ctx, func(tx *store.Store) error {
		if err := ed.Write(ctx, tx); err != nil {
			return err
		}
		return NoteEdit(ctx, tx, ed, ch.Now())
	}); err != nil {
		if !refusedEdit(err) { // whether it was committed is not known: memory has to find out
			ch.CatchUp()
		}
		return err
	}
	// What is committed must reach memory, even if the client has gone away meanwhile.
	return ch.follow(context.WithoutCancel(ctx), turn, ed, touched)
}

// touchedBy says what an edit touches: what it says itself, or else its site as it is on record before. write may add to it.
func (ch *Changes) touchedBy(ed Edit) *record.Touched {
	if ed.Touched != nil {
		return ed.Touched
	}
	p, ok := ch.Record.SiteByCode(ed.Site)
	return &record.Touched{Sites: []int64{p.ID}, Parts: ed.Parts, Whole: !ok}
}

// refusedEdit reports whether an error proves that nothing was committed.
func refusedEdit(err error) bool {
	var missing store.Missing
	var taken store.Taken
	var inUse store.InUse
	var without store.Without
	var flaws site.Flaws
	return errors.As(err, &missing) || errors.As(err, &taken) || errors.As(err, &inUse) || errors.As(err, &without) || errors.As(err,
		&flaws) || errors.Is(err, store.ErrNotWriter)
}

// follow makes memory, zones and probing follow an edit that was committed.
func (ch *Changes) follow(ctx context.Context, turn Turn, ed Edit, touched *record.Touched) error {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	at := ch.Now()
	var moved []store.Change
	if ed.Moves != nil && len(ed.Moves.Changes) > 0 {
		moved = ed.Moves.Changes
		ch.Moves.Accept(*ed.Moves)
		if err := turn.moves.Settle(ctx); err != nil {
			ch.Log.Warn("an edit is recorded and not answered yet; retrying", "error", err)
			ch.CatchUp()
			return ErrCommitted
		}
	}
	d, err := ch.Record.Reload(ctx, ch.Store, *touched)
	if err == nil {
		err = ch.Apply(d)
	}
	if err != nil {
		ch.Log.Warn("an edit is recorded and not answered yet; retrying", "error", err)
		ch.CatchUp()
		return ErrCommitted
	}
	ch.Marks.Edited(*touched)
	ch.Events.Publish(events.RecordEdited, ed.Site, "", ed.Words)
	for _, c := range d.Sites {
		if c.After.ID != 0 && !d.Whole {
			ch.Marks.Note(c.After.ID)
			ch.Faults.Review(c.After.ID)
			ch.Verify.Ask(c.After.ID)
		}
	}
	for _, c := range moved {
		ch.SiteSide.NoteHeard(c.LinkID, c.Received)
		if where, ok := ch.Record.Site(c.SiteID); ok {
			ch.AfterMove(where, where.FollowingLink(c.LinkID), c, store.Stages{MoveID: c.ID, Recorded: at, Published: ch.Now()})
		}
	}
	return nil
}

// CatchUp brings memory in line with the database soon, and retries until that succeeds.
func (ch *Changes) CatchUp() { signal(ch.behind) }

// runCatchUp brings memory in line with the database after an edit whose outcome is not known, or that could not be read back.
func (ch *Changes) runCatchUp(ctx context.Context) {
	for {
		select {
		case <-ch.behind:
		case <-ctx.Done():
			return
		}
		for ctx.Err() == nil {
			bounded, cancel := context.WithTimeout(ctx, Limit)
			turn, err := ch.Begin(bounded)
			if err == nil {
				var d record.Diff
				if d, err = ch.Record.LoadNow(bounded, ch.Store); err == nil {
					err = ch.Apply(d)
				}
				ch.Marks.Edited(record.Touched{Whole: true})
				turn.Done()
			}
			cancel()
			if err == nil {
				break
			}
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
	}
}

// Turn is somebody's turn to edit the record: nothing else changes it until done.
type Turn struct {
	moves moves.Hold
	c     *Changes
}

// Done lets others change the record.
func (t Turn) Done() {
	t.moves.Release()
	t.c.publishing.Unlock()
	t.c.edit.Release(1)
}

// Begin waits until every announcement so far is recorded, published and settled, and keeps further ones waiting until the
// edit is done. It waits no longer than ctx. Errors: those of Writable and Moves.Settle, ErrBusy.
func (ch *Changes) Begin(ctx context.Context) (t Turn, err error) {
	if err := ch.host.Writable(); err != nil {
		return t, err
	}
	if err := ch.edit.Acquire(ctx, 1); err != nil {
		return t, ErrBusy
	}
	ch.publishing.Lock()
	t = Turn{ch.Moves.Hold(), ch}
	if err := t.moves.Settle(ctx); err != nil {
		t.Done()
		return t, err
	}
	return t, nil
}
