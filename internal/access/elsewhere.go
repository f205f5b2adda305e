package access

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/store"
)

// Elsewhere is what a provider says of somebody who signs in there.
type Elsewhere struct {
	Issuer, Subject, Name string
	Roles, Tags           []string
}

// ErrNoRole reports somebody whom their provider gives no role here.
var ErrNoRole = errors.New("your provider gives you no role here; ask whoever looks after it for owner, technician or viewer")

// SignInElsewhere opens a session for somebody by their provider's word. They are recorded at their first sign-in, and have the role that
// the provider says at each. Errors: ErrNoRole, store.Taken where the name is that of somebody who signs in here, site.Flaws, that of the
// database.
func (a *Access) SignInElsewhere(ctx context.Context, who Elsewhere, by Visitor) (token string, s store.Session, err error) {
	r := store.Rights{Tags: who.Tags}
	for _, role := range team.Roles { // of several, the one that may do most
		if r.Role == "" && slices.Contains(who.Roles, string(role)) {
			r.Role = role
		}
	}
	if r.Role == "" {
		return "", s, ErrNoRole
	}
	if r.Role == team.Owner {
		r.Tags = nil
	}
	if r, err = CheckRights(r); err != nil {
		return "", s, err
	}
	p, err := a.store.PersonBySubject(ctx, who.Issuer, who.Subject)
	var missing store.Missing
	switch {
	case errors.As(err, &missing):
		name := strings.TrimSpace(who.Name)
		if err := checkPersonName(name); err != nil {
			return "", s, err
		}
		if p, err = a.store.AddPersonOf(ctx, name, who.Issuer, who.Subject, r, a.now()); err != nil {
			known, unknown := a.store.PersonBySubject(ctx, who.Issuer, who.Subject) // two windows of theirs at once
			if unknown != nil {
				return "", s, err
			}
			p = known
		}
	case err != nil:
		return "", s, err
	case p.Role != r.Role || !slices.Equal(p.Tags, r.Tags):
		if err := a.SetRights(ctx, p.Name, func(store.Rights) store.Rights { return r }); err != nil {
			return "", s, fmt.Errorf("the role that your provider says cannot be given: %w", err)
		}
		p.Rights = r
	}
	return a.open(ctx, p, by, true)
}
