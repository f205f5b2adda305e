package changes

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

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

// who names whoever asks.
func (r Request) who() string { return cmp.Or(r.Person, "the service") }

// removedFor is how long what was removed can be brought back.
const removedFor = 30 * 24 * time.Hour

// Removal says who removes something with ctx, and until when it can be brought back.
func (ch *Changes) Removal(ctx context.Context) store.Removal {
	now := ch.Now()
	return store.Removal{Person: requestOf(ctx).who(), At: now, Until: now.Add(removedFor)}
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

// Unchanged reports an edit of an older revision than the newest as Stale. Errors: Stale, that of the database.
func (ch *Changes) Unchanged(ctx context.Context, of Resource) error {
	seen := requestOf(ctx).Seen
	if seen == "" || of.Tag == "" || seen == of.Tag {
		return nil
	}
	stale := Stale{Kind: of.Kind, Name: of.Name, Tag: of.Tag}
	id, revision, ok := strings.Cut(seen, "-")
	n, err := strconv.ParseInt(revision, 10, 64)
	if ok && err == nil && id == strconv.FormatInt(of.ID, 10) {
		if stale.Meanwhile, err = ch.Store.EditsSince(ctx, of.Kind, of.ID, n); err != nil {
			return err
		}
	}
	return stale
}

// NoteEdit writes the revision that an edit makes into the log. Error: that of the database.
func NoteEdit(ctx context.Context, tx *store.Store, ed Edit, now time.Time) error {
	if ed.Of.ID == 0 || ed.After == nil {
		return nil
	}
	changes, err := ChangesOf(ed.Before, ed.After)
	if err != nil {
		return err
	}
	return tx.NoteEdit(ctx, store.Edit{Kind: ed.Of.Kind, Ref: ed.Of.ID, Revision: ed.Of.Revision + 1, Person: requestOf(ctx).who(), At: now,
		Changes: changes})
}

// ChangesOf lists the fields in which two documents differ, by name. Error: one that is no JSON object.
func ChangesOf(before, after any) ([]store.FieldChange, error) {
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
