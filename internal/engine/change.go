package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// Request is what is known of whoever asks for an edit.
type Request struct {
	Person string // who asks; "" for the service itself
	Seen   string // tag of the revision that they edit; "" edits whatever there is
}

type requestKey struct{}

// WithRequest attaches to ctx who asks, for all edits made with it.
func WithRequest(ctx context.Context, r Request) context.Context {
	return context.WithValue(ctx, requestKey{}, r)
}

func requestOf(ctx context.Context) Request {
	r, _ := ctx.Value(requestKey{}).(Request)
	return r
}

// Stale reports an edit of a revision that is no longer the newest. Meanwhile says who changed what since.
type Stale struct {
	Kind, Name, Tag string // Tag is that of the newest revision
	Meanwhile       []store.Edit
}

func (e Stale) Error() string {
	if len(e.Meanwhile) == 0 {
		return fmt.Sprintf("the %s %s was replaced meanwhile; read it again, then edit", e.Kind, e.Name)
	}
	var who []string
	for _, one := range e.Meanwhile {
		var fields []string
		for _, c := range one.Changes {
			fields = append(fields, c.Field)
		}
		words := one.Person + " edited it"
		if len(fields) > 0 {
			words = one.Person + " changed " + strings.Join(fields, ", ")
		}
		if !slices.Contains(who, words) {
			who = append(who, words)
		}
	}
	return fmt.Sprintf("the %s %s was edited meanwhile: %s; read it again, then edit", e.Kind, e.Name, strings.Join(who, "; "))
}

// ErrCommitted reports an edit that is on record, but not answered yet because the database went away right after it.
var ErrCommitted = errors.New("the change is recorded; it takes effect as soon as the database answers again")

// resource is what an edit is about: one row with revisions. The zero resource has none.
type resource struct {
	kind     string
	name     string
	id       int64
	revision int64
	tag      string
}

// edit is one change of the record, as it was decided on the record of that moment.
type edit struct {
	site  string // code of the site that it concerns; "" for none
	words string // what was done, for those who follow events
	of    resource
	// before and after are what a person would enter, for the log of revisions; nil logs nothing.
	before, after any
	// write stores the edit. All of it happens in one transaction.
	write func(ctx context.Context, tx *store.Store) error
	// moves are address changes that come with the edit; write may add to them.
	moves *store.Group
}

// editLimit is the longest that an edit may take, waiting for others included.
const editLimit = 12 * time.Second

// change carries out one edit of the record. decide reads the record as it is while nothing else can change it, checks what is
// asked and returns what has to be written: so two edits at once cannot undo each other. The database changes first, then memory,
// zones and prober follow.
func (e *Engine) change(ctx context.Context, decide func() (edit, error)) error {
	ctx, cancel := context.WithTimeout(ctx, editLimit)
	defer cancel()
	done, err := e.editing(ctx)
	if err != nil {
		return err
	}
	defer done()
	ed, err := decide()
	if err != nil {
		return err
	}
	if err := e.unchanged(ctx, ed.of); err != nil {
		return err
	}
	before := e.answersNow()
	if err := e.store.Together(ctx, func(tx *store.Store) error {
		if err := ed.write(ctx, tx); err != nil {
			return err
		}
		return noteEdit(ctx, tx, ed, e.now())
	}); err != nil {
		if !refusedEdit(err) { // whether it was committed is not known: memory has to find out
			e.catchUp()
		}
		return err
	}
	// What is committed must reach memory, even if the client has gone away meanwhile.
	return e.follow(context.WithoutCancel(ctx), ed, before)
}

// refusedEdit reports whether an error proves that nothing was committed.
func refusedEdit(err error) bool {
	var missing store.Missing
	var taken store.Taken
	var inUse store.InUse
	return errors.As(err, &missing) || errors.As(err, &taken) || errors.As(err, &inUse) || errors.Is(err, store.ErrNotWriter)
}

// follow has memory, zones and prober follow an edit that was committed.
func (e *Engine) follow(ctx context.Context, ed edit, before map[int64]wan.Pair) error {
	ctx, cancel := context.WithTimeout(ctx, editLimit)
	defer cancel()
	at := e.now()
	var moves []store.Change
	if ed.moves != nil && len(ed.moves.Changes) > 0 {
		moves = ed.moves.Changes
		e.unsettled.accept(*ed.moves)
		if err := e.settleAlone(ctx); err != nil {
			e.log.Warn("an edit is recorded and not answered yet; trying again", "error", err)
			e.catchUp()
			return ErrCommitted
		}
	}
	if err := e.reread(ctx, before); err != nil {
		e.log.Warn("an edit is recorded and not answered yet; trying again", "error", err)
		e.catchUp()
		return ErrCommitted
	}
	e.Events.Publish(contract.EventRecordEdited, ed.site, "", ed.words)
	if p, ok := e.record.byCode(ed.site); ok {
		e.faults.review(p.ID)
		e.askAgain(p.ID)
	}
	for _, c := range moves {
		e.heard.note(c.LinkID, c.Received)
		if where, ok := e.record.site(c.SiteID); ok {
			e.afterMove(where, where.followingOne(c.LinkID), c, store.Stages{MoveID: c.ID, Recorded: at, Published: e.now()})
		}
	}
	return nil
}

// reread brings memory in line with the database. The caller holds the edit lock.
func (e *Engine) reread(ctx context.Context, before map[int64]wan.Pair) error {
	if err := e.reload(ctx); err != nil {
		return err
	}
	if err := e.publishAll(); err != nil {
		return err
	}
	e.noteAnswers(before)
	e.forgetGone()
	e.prober.sync(false)
	e.posts.touch(0)
	e.yard.rouseAll()
	return nil
}

// catchUp has memory brought in line with the database soon, and tried until that succeeds.
func (e *Engine) catchUp() { wake(e.behindDatabase) }

// runCatchUp brings memory in line with the database after an edit whose outcome is not known, or that could not be read back.
func (e *Engine) runCatchUp(ctx context.Context) {
	for {
		select {
		case <-e.behindDatabase:
		case <-ctx.Done():
			return
		}
		for ctx.Err() == nil {
			bounded, cancel := context.WithTimeout(ctx, editLimit)
			done, err := e.editing(bounded)
			if err == nil {
				err = e.reread(bounded, e.answersNow())
				done()
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

// unchanged reports an edit of an older revision than the newest as Stale.
func (e *Engine) unchanged(ctx context.Context, of resource) error {
	seen := requestOf(ctx).Seen
	if seen == "" || of.tag == "" || seen == of.tag {
		return nil
	}
	stale := Stale{Kind: of.kind, Name: of.name, Tag: of.tag}
	id, revision, ok := strings.Cut(seen, "-")
	n, err := strconv.ParseInt(revision, 10, 64)
	if ok && err == nil && id == strconv.FormatInt(of.id, 10) {
		if stale.Meanwhile, err = e.store.EditsSince(ctx, of.kind, of.id, n); err != nil {
			return err
		}
	}
	return stale
}

// noteEdit writes the revision that an edit makes into the log.
func noteEdit(ctx context.Context, tx *store.Store, ed edit, now time.Time) error {
	if ed.of.id == 0 || ed.after == nil {
		return nil
	}
	changes, err := changesOf(ed.before, ed.after)
	if err != nil {
		return err
	}
	person := requestOf(ctx).Person
	if person == "" {
		person = "the service"
	}
	return tx.NoteEdit(ctx, store.Edit{Kind: ed.of.kind, Ref: ed.of.id, Revision: ed.of.revision + 1, Person: person, At: now, Changes: changes})
}

// changesOf lists the fields in which two documents differ, by name.
func changesOf(before, after any) ([]store.FieldChange, error) {
	fields := func(doc any) (out map[string]json.RawMessage, err error) {
		text, err := json.Marshal(doc)
		if err == nil {
			err = json.Unmarshal(text, &out)
		}
		return out, err
	}
	was, err1 := fields(before)
	is, err2 := fields(after)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	out := []store.FieldChange{}
	for _, name := range slices.Sorted(maps.Keys(is)) {
		if !bytes.Equal(was[name], is[name]) {
			out = append(out, store.FieldChange{Field: name, Before: was[name], After: is[name]})
		}
	}
	return out, nil
}
