package notices

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/mail"
)

// Trial is how sending a test went, step by step.
type Trial struct {
	Target string
	Steps  []mail.Step
	Good   bool
}

// Try sends a test to a person, by mail or by push, or to a webhook at once, past the queue. Errors: store.Missing, that of the database.
func (r *Room) Try(ctx context.Context, person, hook string, way notice.Way) (t Trial, err error) {
	now := r.Now()
	c := notice.Content{What: notice.Test, At: now, Subject: "A test from Ink Post",
		Summary: "Notices reach you here", Next: "Nothing is left to do.", Lines: []notice.Line{{Name: "For", Text: person + hook}}}
	d := store.Delivery{Notice: store.Notice{To: "hook " + hook, Content: c, Decided: now}}
	if hook != "" {
		hooks, err := r.store.Hooks(ctx)
		if err == nil && !slices.ContainsFunc(hooks, func(h store.Hook) bool { return h.Name == hook }) {
			err = store.Missing{Kind: "hook", Name: hook}
		}
		if err != nil {
			return t, err
		}
		t.Target, err = r.sendHook(ctx, d)
		t.Good = err == nil
		words := "it took the event"
		if err != nil {
			words = err.Error()
		}
		t.Steps = []mail.Step{{Name: "send", Words: words, Good: t.Good}}
		return t, nil
	}
	people, err := r.store.PeopleMail(ctx)
	if err != nil {
		return t, err
	}
	i := slices.IndexFunc(people, func(p store.PersonMail) bool { return p.Name == person })
	if i < 0 {
		return t, store.Missing{Kind: "person", Name: person}
	}
	if way == notice.ByPush {
		return r.tryPush(ctx, person, d)
	}
	t.Target = people[i].Mail
	bad := func(name, words string) Trial {
		t.Steps = append(t.Steps, mail.Step{Name: name, Words: words})
		return t
	}
	switch {
	case t.Target == "":
		return bad("address", "no mail address is on record for "+person), nil
	case r.Mail.Address == "":
		return bad("server", "this server has no mail server: inkpost serve --mail-server HOST"), nil
	}
	m, err := r.letter(d)
	if err != nil {
		return bad("write", err.Error()), nil
	}
	m.ID, m.To = fmt.Sprintf("test.%d.%s@%s", now.UnixNano(), r.name, r.domain()), t.Target
	steps, err := r.Mail.Send(ctx, m)
	t.Steps, t.Good = steps, err == nil
	var refused mail.Refused
	if errors.As(err, &refused) && len(steps) == 0 {
		return bad(refused.At, refused.Words), nil
	}
	return t, nil
}

// Again sends a delivery that was given up on its way again. Errors: store.Missing, that of the database.
func (r *Room) Again(ctx context.Context, id int64) error {
	if err := r.store.SendAgain(ctx, id, r.Now()); err != nil {
		return err
	}
	// The job that gave it up may be about to end, and would hide the next one.
	for range endingTries {
		if r.deliver(ctx, []int64{id}) == 0 {
			break
		}
		select {
		case <-time.After(endingPause):
		case <-ctx.Done():
			return nil // the next sweep finds it
		}
	}
	return nil
}

const (
	endingTries = 20
	endingPause = 100 * time.Millisecond
)
