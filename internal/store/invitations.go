package store

import (
	"context"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

// Invitation is what somebody becomes who has its one-time code.
type Invitation struct {
	ID   int64  `db:"id"`
	Name string `db:"name"`
	Rights
	By      string `db:"person"`
	Created when   `db:"created_at"`
	Expires when   `db:"expires_at"`
}

// AddInvitation records an invitation under the hash of its code, in the place of one to the same name, and forgets those that have
// expired. Error: Taken where somebody has that name.
func (s *Store) AddInvitation(ctx context.Context, codeHash []byte, in Invitation) (id int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		var there int
		if err := tx.GetContext(ctx, &there, `SELECT count(*) FROM person WHERE name = $1`, in.Name); err != nil {
			return err
		}
		if there > 0 {
			return Taken{Kind: "person", Name: in.Name}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM invitation WHERE name = $1 OR expires_at < $2`, in.Name, in.Created); err != nil {
			return err
		}
		return tx.GetContext(ctx, &id, `INSERT INTO invitation (code_hash, name, role, tags, person, created_at, expires_at)
			VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`, codeHash, in.Name, in.Role, in.Tags, in.By, in.Created, in.Expires)
	})
	return id, err
}

// Invitations lists the invitations that can still be used, the newest first.
func (s *Store) Invitations(ctx context.Context, now time.Time) (out []Invitation, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT id, name, role, tags, person, created_at, expires_at FROM invitation WHERE expires_at > $1
		ORDER BY id DESC`, now)
	return out, err
}

// Invitation finds the invitation of a code that can still be used. Error: Missing.
func (s *Store) Invitation(ctx context.Context, codeHash []byte, now time.Time) (in Invitation, err error) {
	err = s.db.GetContext(ctx, &in, `SELECT id, name, role, tags, person, created_at, expires_at FROM invitation
		WHERE code_hash = $1 AND expires_at > $2`, codeHash, now)
	return in, explained(err, "invitation", "code", "given")
}

// RemoveInvitation takes an invitation back. Error: Missing.
func (s *Store) RemoveInvitation(ctx context.Context, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM invitation WHERE id = $1`, id)
	return affected(r, err, "invitation", "id", strconv.FormatInt(id, 10))
}

// UseInvitation makes a person of an invitation, which is used up with it. A code that is unknown, used or expired is Missing.
func (s *Store) UseInvitation(ctx context.Context, codeHash, passwordHash []byte, now time.Time) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `WITH used AS (DELETE FROM invitation WHERE code_hash = $1 AND expires_at > $3 RETURNING name, role,
		tags)
		INSERT INTO person (name, password_hash, role, tags, created_at) SELECT name, $2, role, tags, $3 FROM used
		RETURNING id, name, password_hash, once, once_until, role, tags, mail, created_at, issuer`, codeHash, passwordHash, now)
	return p, explained(err, "invitation", "code", "given")
}

// PersonBySubject finds somebody by who they are at a provider. Error: Missing.
func (s *Store) PersonBySubject(ctx context.Context, issuer, subject string) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, personColumns+` WHERE issuer = $1 AND subject = $2`, issuer, subject)
	return p, explained(err, "person", "subject", subject)
}

// AddPersonOf records somebody who signs in at a provider; they have no password here. Error: Taken where somebody has that name.
func (s *Store) AddPersonOf(ctx context.Context, name, issuer, subject string, r Rights, now time.Time) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `INSERT INTO person (name, password_hash, role, tags, created_at, issuer, subject)
		VALUES ($1, '', $2, $3, $4, $5, $6) RETURNING id, name, password_hash, once, once_until, role, tags, mail, created_at, issuer`,
		name, r.Role, r.Tags, now, issuer, subject)
	return p, explained(err, "person", "name", name)
}
