// Package faultedits keeps what people say of faults and plan where they are. It owns nothing: faults are the faults room's.
//
// It holds no lock; any may be held when it is called.
//
// Errors of all edits: store.Missing for what is not on record, or not seen by whoever asks, site.Flaws, that of the database.
package faultedits

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/views"
	"inkpost.example/inkpost/internal/store"
)

// FaultEdits edits what people say of faults.
type FaultEdits struct {
	*rooms.Rooms
	*views.Views
}

// TakeFault notes who knows of a fault, and whose it is. Errors: store.Missing, that of the database.
func (e *FaultEdits) TakeFault(ctx context.Context, id int64, in contract.FaultTaking, by string) (contract.FaultStory, error) {
	if in.Assigned != nil {
		*in.Assigned = strings.TrimSpace(*in.Assigned)
		if *in.Assigned != "" {
			if _, err := e.Rooms.Store.PersonNamed(ctx, *in.Assigned); err != nil {
				return contract.FaultStory{}, err
			}
		}
	}
	if _, err := e.FindFault(ctx, id); err != nil {
		return contract.FaultStory{}, err
	}
	now := e.Rooms.Now()
	if err := e.Rooms.Faults.Take(ctx, id, func(t store.Taking) (store.Taking, store.FaultEvent) {
		return taken(t, in, by, now)
	}); err != nil {
		return contract.FaultStory{}, err
	}
	return e.Fault(ctx, id)
}

// taken changes who has taken a fault up as somebody says. What is so already is no line of the timeline.
func taken(t store.Taking, in contract.FaultTaking, by string, now time.Time) (store.Taking, store.FaultEvent) {
	e := store.FaultEvent{At: now, By: by}
	var words []string
	if in.Acknowledged != nil && *in.Acknowledged != !t.Acknowledged.IsZero() {
		e.Kind = fault.Acknowledged
		if *in.Acknowledged {
			t.Acknowledged, t.By = now, by
			words = append(words, "is known of")
		} else {
			t.Acknowledged, t.By = time.Time{}, ""
			words = append(words, "not known of after all")
		}
	}
	if in.Assigned != nil && *in.Assigned != t.Assigned {
		e.Kind = fault.Assigned
		if t.Assigned = *in.Assigned; t.Assigned != "" {
			words = append(words, "is for "+t.Assigned)
		} else {
			words = append(words, "is nobody's")
		}
	}
	e.Words = strings.Join(words, ", ")
	return t, e
}

// NoteFault adds a note to a fault's timeline. Errors: site.Flaws, store.Missing, that of the database.
func (e *FaultEdits) NoteFault(ctx context.Context, id int64, in contract.FaultNote, by string) (contract.FaultStory, error) {
	in.Note = strings.TrimSpace(in.Note)
	var flaws site.Flaws
	if in.Note == "" {
		flaws.Note("note", errors.New("is required"))
	}
	if n := len([]rune(in.Note)); n > longestNote {
		flaws.Note("note", fmt.Errorf("has %d characters; %d are allowed", n, longestNote))
	}
	err := flaws.Err()
	if err == nil {
		_, err = e.FindFault(ctx, id)
	}
	if err == nil {
		err = e.Rooms.Store.NoteFault(ctx, id, store.FaultEvent{At: e.Rooms.Now(), Kind: fault.Noted, By: by, Words: in.Note})
	}
	if err != nil {
		return contract.FaultStory{}, err
	}
	return e.Fault(ctx, id)
}

// JudgeFault keeps what a person said of a fault's cause. Errors: site.Flaws, store.Missing, that of the database.
func (e *FaultEdits) JudgeFault(ctx context.Context, id int64, in contract.FaultJudgementInput, by string) (contract.FaultJudgement,
	error) {
	in.Note = strings.TrimSpace(in.Note)
	var f site.Flaws
	if _, known := causes.Find(in.Actual); in.Actual != "" && !known {
		f.Note("actual", fmt.Errorf("%q is no cause; GET /causes lists them", in.Actual))
	}
	if in.Right && in.Actual != "" {
		f.Note("actual", errors.New("is what it was instead; leave it out where the cause was right"))
	}
	if !in.Right && in.Actual == "" && in.Note == "" {
		f.Note("note", errors.New("say what it was: a cause, a note, or both"))
	}
	if n := len([]rune(in.Note)); n > longestNote {
		f.Note("note", fmt.Errorf("has %d characters; %d are allowed", n, longestNote))
	}
	if err := f.Err(); err != nil {
		return contract.FaultJudgement{}, err
	}
	if _, err := e.FindFault(ctx, id); err != nil {
		return contract.FaultJudgement{}, err
	}
	j := store.Judgement{At: e.Rooms.Now(), By: by, Right: in.Right, Actual: in.Actual, Note: in.Note}
	words := "it was this"
	if !in.Right {
		words = strings.TrimSuffix("it was something else: "+string(in.Actual), ": ")
	}
	return contract.FaultJudgement{FaultJudgementInput: in, By: by, At: j.At},
		e.Rooms.Store.JudgeFault(ctx, id, j, store.FaultEvent{At: j.At, Kind: fault.Judged, By: by, Words: withNote(words, in.Note)})
}

// longestNote bounds what is said of a fault.
const longestNote = 500

func withNote(words, note string) string {
	if note == "" {
		return words
	}
	return words + " (" + note + ")"
}
