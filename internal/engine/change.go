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

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/zones"
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
	// touched is what the edit may change; nil stands for the site. write may add to it.
	touched *record.Touched
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
	turn, err := e.editing(ctx)
	if err != nil {
		return err
	}
	defer turn.done()
	ed, err := decide()
	if err != nil {
		return err
	}
	if err := e.unchanged(ctx, ed.of); err != nil {
		return err
	}
	touched := e.touchedBy(ed)
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
	return e.follow(context.WithoutCancel(ctx), turn, ed, touched)
}

// touchedBy says what an edit touches: what it says itself, or else its site as it is on record before. write may add to it.
func (e *Engine) touchedBy(ed edit) *record.Touched {
	if ed.touched != nil {
		return ed.touched
	}
	p, ok := e.record.SiteByCode(ed.site)
	return &record.Touched{Sites: []int64{p.ID}, Whole: !ok}
}

// refusedEdit reports whether an error proves that nothing was committed.
func refusedEdit(err error) bool {
	var missing store.Missing
	var taken store.Taken
	var inUse store.InUse
	return errors.As(err, &missing) || errors.As(err, &taken) || errors.As(err, &inUse) || errors.Is(err, store.ErrNotWriter)
}

// follow makes memory, zones and probing follow an edit that was committed.
func (e *Engine) follow(ctx context.Context, turn turn, ed edit, touched *record.Touched) error {
	ctx, cancel := context.WithTimeout(ctx, editLimit)
	defer cancel()
	at := e.now()
	var moved []store.Change
	if ed.moves != nil && len(ed.moves.Changes) > 0 {
		moved = ed.moves.Changes
		e.moves.Accept(*ed.moves)
		if err := turn.moves.Settle(ctx); err != nil {
			e.log.Warn("an edit is recorded and not answered yet; retrying", "error", err)
			e.catchUp()
			return ErrCommitted
		}
	}
	d, err := e.record.Reload(ctx, e.store, *touched)
	if err == nil {
		err = e.apply(d)
	}
	if err != nil {
		e.log.Warn("an edit is recorded and not answered yet; retrying", "error", err)
		e.catchUp()
		return ErrCommitted
	}
	e.Events.Publish(events.RecordEdited, ed.site, "", ed.words)
	for _, c := range d.Sites {
		if c.After.ID != 0 && !d.Whole {
			e.faults.review(c.After.ID)
			e.verify.Ask(c.After.ID)
		}
	}
	for _, c := range moved {
		e.SiteSide.NoteHeard(c.LinkID, c.Received)
		if where, ok := e.record.Site(c.SiteID); ok {
			e.afterMove(where, where.FollowingLink(c.LinkID), c, store.Stages{MoveID: c.ID, Recorded: at, Published: e.now()})
		}
	}
	return nil
}

// apply makes everything that follows the record follow a change of it. The caller holds the edit lock.
func (e *Engine) apply(d record.Diff) error {
	if err := e.zones.Apply(d); err != nil {
		return err
	}
	e.pushChanged(d)
	e.noteAnswers(d)
	e.forget(d.Gone())
	e.prober.Apply(d)
	if d.Whole {
		e.vantages.AssignmentsChanged(0)
		e.SiteSide.WakeAllAgents()
		return nil
	}
	for _, c := range d.Sites {
		id := c.Before.ID | c.After.ID
		e.vantages.AssignmentsChanged(id)
		e.SiteSide.WakeAgents(id)
	}
	return nil
}

// pushChanged queues the names of remote zones at which records differ.
func (e *Engine) pushChanged(d record.Diff) {
	for _, c := range d.Zones {
		if c.After.Kind != names.Remote {
			continue
		}
		if d.Whole || c.Before.Tag() != c.After.Tag() || c.Before.Pushing != c.After.Pushing {
			e.push.Due(c.After, false)
			continue
		}
		for _, name := range d.Names(c.After.ID) {
			if c.After.Pushing {
				e.push.Add(c.After.ID, name)
			}
		}
	}
}

// publish sets the answers of those hostnames of some sites that were touched, and queues those of remote zones to be pushed.
func (e *Engine) publish(changed []record.Site, touched zones.Touched, serials map[int64]uint32) error {
	if err := e.zones.Publish(changed, touched, serials); err != nil {
		return err
	}
	for _, p := range changed {
		for _, h := range touched(p) {
			if z := e.record.Zone(h.ZoneID); z.Kind == names.Remote && z.Pushing {
				for _, name := range h.Owners() {
					e.push.Add(z.ID, name)
				}
			}
		}
	}
	return nil
}

// catchUp has memory brought in line with the database soon, and tried until that succeeds.
func (e *Engine) catchUp() { signal(e.behindDatabase) }

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
			turn, err := e.editing(bounded)
			if err == nil {
				var d record.Diff
				if d, err = e.record.Load(bounded, e.store); err == nil {
					err = e.apply(d)
				}
				turn.done()
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
