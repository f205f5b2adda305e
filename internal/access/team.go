package access

import (
	"context"
	"errors"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/store"
)

// personInvitationLife is how long an invitation may be used.
const personInvitationLife = 7 * 24 * time.Hour

// ErrInvitation reports an invitation that cannot be used.
var ErrInvitation = errors.New("this invitation is not valid: it is mistyped, was used already, was taken back or is older than a week; " +
	"ask for another")

// CheckRights checks what somebody is to be allowed, and returns it as it is kept. Error: site.Flaws.
func CheckRights(r store.Rights) (store.Rights, error) {
	var f site.Flaws
	if _, err := team.ParseRole(string(r.Role)); err != nil {
		f.Note("role", err)
	}
	r.Tags = f.Tags(r.Tags)
	switch {
	case r.Role == team.Owner && len(r.Tags) > 0:
		f.Note("tags", errors.New("an owner sees all sites; leave the tags out, or take another role"))
	}
	return r, f.Err()
}

// InvitePerson makes a one-time code by which somebody becomes part of the team. Errors: site.Flaws, store.Taken, that of the database.
func (a *Access) InvitePerson(ctx context.Context, name string, r store.Rights, by string) (code string, in store.Invitation, err error) {
	if err := checkPersonName(name); err != nil {
		return "", in, err
	}
	if r, err = CheckRights(r); err != nil {
		return "", in, err
	}
	in = store.Invitation{Name: name, Rights: r, By: by}
	in.Created.Time, in.Expires.Time = a.now(), a.now().Add(personInvitationLife).UTC().Truncate(time.Second)
	code = newSecret()
	in.ID, err = a.store.AddInvitation(ctx, Hash(code), in)
	return code, in, err
}

// Invitations lists the invitations that can still be used. Error: that of the database.
func (a *Access) Invitations(ctx context.Context) ([]store.Invitation, error) {
	return a.store.Invitations(ctx, a.now())
}

// TakeBack makes an invitation useless. Errors: store.Missing, that of the database.
func (a *Access) TakeBack(ctx context.Context, id int64) error {
	return a.store.RemoveInvitation(ctx, id)
}

// Accept makes a person of an invitation, with a password of their own, and signs them in. Errors: ErrInvitation, site.Flaws, ErrHashing.
func (a *Access) Accept(ctx context.Context, code, password string, by Visitor) (token string, s store.Session, err error) {
	kept := Hash(strings.TrimSpace(code))
	in, err := a.store.Invitation(ctx, kept, a.now())
	if err != nil {
		return "", s, invitationError(err)
	}
	h, err := a.keepPassword(ctx, in.Name, password)
	if err != nil {
		return "", s, err
	}
	p, err := a.store.UseInvitation(ctx, kept, h, a.now())
	if err != nil {
		return "", s, invitationError(err)
	}
	return a.openSession(ctx, p, by)
}

// Invited returns what a code makes of whoever has it. Errors: ErrInvitation, that of the database.
func (a *Access) Invited(ctx context.Context, code string) (store.Invitation, error) {
	in, err := a.store.Invitation(ctx, Hash(strings.TrimSpace(code)), a.now())
	return in, invitationError(err)
}

func invitationError(err error) error {
	var missing store.Missing
	if errors.As(err, &missing) {
		return ErrInvitation
	}
	return err
}

// People lists everybody, by name. Error: that of the database.
func (a *Access) People(ctx context.Context) ([]store.Person, error) {
	return a.store.PeopleOnRecord(ctx)
}

// Person finds somebody by name. Error: store.Missing.
func (a *Access) Person(ctx context.Context, name string) (store.Person, error) {
	return a.store.PersonNamed(ctx, name)
}

// SetRights changes what somebody may do from now on, with their keys and sessions. Errors: site.Flaws, store.Missing, that of the
// database.
func (a *Access) SetRights(ctx context.Context, name string, change func(store.Rights) store.Rights) error {
	return a.editPerson(ctx, name, func(ctx context.Context, tx *store.Store, now store.Rights) (team.Role, error) {
		r, err := CheckRights(change(now))
		if err == nil {
			err = tx.SetRights(ctx, name, r)
		}
		return r.Role, err
	})
}

// RemovePerson removes somebody, who is signed out everywhere, with their keys. Errors: site.Flaws for the last owner, store.Missing, that
// of the database.
func (a *Access) RemovePerson(ctx context.Context, name string) error {
	return a.editPerson(ctx, name, func(ctx context.Context, tx *store.Store, _ store.Rights) (team.Role, error) {
		return "", tx.RemovePerson(ctx, name)
	})
}

// editPerson edits somebody; write returns the role that they have afterwards. It is all or nothing.
func (a *Access) editPerson(ctx context.Context, name string,
	write func(context.Context, *store.Store, store.Rights) (team.Role, error)) error {
	defer a.sessions.forget()
	return a.editor.EditKeys(ctx, "somebody's rights were changed", func(ctx context.Context, tx *store.Store, touched *Touched) error {
		others, err := tx.OtherOwners(ctx, name)
		if err != nil {
			return err
		}
		p, err := tx.PersonNamed(ctx, name)
		if err != nil {
			return err
		}
		if touched.Keys, err = tx.PersonKeys(ctx, name); err != nil {
			return err
		}
		next, err := write(ctx, tx, p.Rights)
		if err != nil {
			return err
		}
		if why := team.LastOwner(p.Role, next, others); why != "" {
			return site.Flaws{{Field: "role", Detail: why}}
		}
		return nil
	})
}

// BeginAct writes down that somebody is about to do something. Error: that of the database.
func (a *Access) BeginAct(ctx context.Context, act store.Act) (int64, error) {
	return a.store.BeginAct(ctx, act)
}

// EndAct writes down how it ended. Error: that of the database.
func (a *Access) EndAct(ctx context.Context, act store.Act) error { return a.store.EndAct(ctx, act) }
