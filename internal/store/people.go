package store

import (
	"context"
	"net/netip"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/team"
)

// Person may sign in. Once says that the password is a one-time password that must be replaced.
type Person struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	PasswordHash []byte `db:"password_hash"`
	Once         bool   `db:"once"`
	Until        when   `db:"once_until"` // when a one-time password expires
	Rights
	Mail    string `db:"mail"`
	Created when   `db:"created_at"`
	Issuer  string `db:"issuer"` // of the provider at which they sign in; "" for none
}

// Rights are what a person may do, and whose sites they see: those with one of the tags, or all where there are none.
type Rights struct {
	Role team.Role    `db:"role"`
	Tags list[string] `db:"tags"`
}

// Sight is whose sites are seen.
func (r Rights) Sight() team.Sight { return team.Sight(r.Tags) }

// People counts the people on record.
func (s *Store) People(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT count(*) FROM person`)
	return n, err
}

const personColumns = `SELECT id, name, password_hash, once, once_until, role, tags, mail, created_at, issuer FROM person`

// PersonNamed finds a person by name.
func (s *Store) PersonNamed(ctx context.Context, name string) (Person, error) {
	var p Person
	err := s.db.GetContext(ctx, &p, personColumns+` WHERE name = $1`, name)
	return p, explained(err, "person", "name", name)
}

// PersonByID finds a person. Error: Missing.
func (s *Store) PersonByID(ctx context.Context, id int64) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, personColumns+` WHERE id = $1`, id)
	return p, explained(err, "person", "id", strconv.FormatInt(id, 10))
}

// KeepAnew replaces what is kept of a password, unless it is another by now.
func (s *Store) KeepAnew(ctx context.Context, id int64, old, kept []byte) error {
	_, err := s.db.ExecContext(ctx, `UPDATE person SET password_hash = $3 WHERE id = $1 AND password_hash = $2`, id, old, kept)
	return err
}

// PutPassword sets a person's password hash and ends all their sessions. A person who is not on record is Missing, or created if create is
// set. until is when a one-time password expires; zero for one that the person chose.
func (s *Store) PutPassword(ctx context.Context, name string, hash []byte, until time.Time, create bool) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if create {
			if _, err := tx.ExecContext(ctx, `INSERT INTO person (name, password_hash, role) VALUES ($1, '', 'owner')
				ON CONFLICT (name) DO NOTHING`,
				name); err != nil {
				return err
			}
		}
		r, err := tx.ExecContext(ctx, `UPDATE person SET password_hash = $2, once = $3, once_until = $4 WHERE name = $1`, name, hash,
			!until.IsZero(), when{until})
		if err := affected(r, err, "person", "name", name); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM session USING person WHERE person_id = person.id AND person.name = $1`, name)
		return err
	})
}

// Session is a signed-in browser.
type Session struct {
	PersonID int64     `db:"person_id"`
	Name     string    `db:"name"`
	Once     bool      `db:"once"`
	CSRF     string    `db:"csrf"`
	Expires  time.Time `db:"expires_at"`
	Rights
	Elsewhere bool `db:"elsewhere"` // it was opened by a provider's word
	// Bare says that they lack a second factor that they have to have.
	Bare    bool   `db:"bare"`
	ID      int64  `db:"id"`
	Opened  when   `db:"opened_at"`
	Seen    when   `db:"seen_at"`
	Address inet   `db:"address"`
	Program string `db:"program"` // what the browser calls itself
}

// From sets from where the session is used.
func (s *Session) From(address netip.Addr) { s.Address = inet{address} }

// AddSession records a session under the hash of its token, and forgets those that have expired.
func (s *Store) AddSession(ctx context.Context, tokenHash []byte, x Session, now time.Time) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `WITH gone AS (DELETE FROM session WHERE expires_at < $4)
		INSERT INTO session (token_hash, person_id, csrf, opened_at, seen_at, expires_at, address, program, elsewhere)
			VALUES ($1, $2, $3, $4, $4, $5, $6, $7, $8) RETURNING id`, tokenHash, x.PersonID, x.CSRF, now, x.Expires, x.Address, x.Program,
		x.Elsewhere)
	return id, err
}

const sessionColumns = `SELECT s.id, s.person_id, p.name, p.once, p.role, p.tags, s.csrf, s.opened_at, s.seen_at, s.expires_at, s.address,
	s.program, s.elsewhere, p.role = 'owner' AND NOT s.elsewhere AND p.totp_secret = '' AND coalesce((SELECT bool_or(owners_second) FROM
		installation), false)
		AND NOT EXISTS (SELECT 1 FROM passkey k WHERE k.person_id = p.id) AS bare
	FROM session s JOIN person p ON p.id = s.person_id`

// Session finds the session of a token that has not expired.
func (s *Store) Session(ctx context.Context, tokenHash []byte, now time.Time) (Session, error) {
	var out Session
	err := s.db.GetContext(ctx, &out, sessionColumns+` WHERE s.token_hash = $1 AND s.expires_at > $2`, tokenHash, now)
	return out, explained(err, "session", "", "of this cookie")
}

// Sessions lists the sessions of a person that have not expired, the one that was used last first.
func (s *Store) Sessions(ctx context.Context, personID int64, now time.Time) (out []Session, err error) {
	err = s.db.SelectContext(ctx, &out, sessionColumns+` WHERE s.person_id = $1 AND s.expires_at > $2 ORDER BY s.seen_at DESC, s.id DESC`,
		personID, now)
	return out, err
}

// SeeSession notes when and from where a session was used last.
func (s *Store) SeeSession(ctx context.Context, id int64, from netip.Addr, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE session SET seen_at = $2, address = $3 WHERE id = $1`, id, now, inet{from})
	return err
}

// SessionByID finds a session that has not expired. Error: Missing.
func (s *Store) SessionByID(ctx context.Context, id int64, now time.Time) (out Session, err error) {
	err = s.db.GetContext(ctx, &out, sessionColumns+` WHERE s.id = $1 AND s.expires_at > $2`, id, now)
	return out, explained(err, "session", "id", strconv.FormatInt(id, 10))
}

// EndSessionOf ends one session of a person. Error: Missing.
func (s *Store) EndSessionOf(ctx context.Context, personID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM session WHERE id = $1 AND person_id = $2`, id, personID)
	return affected(r, err, "session", "id", strconv.FormatInt(id, 10))
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, tokenHash []byte) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM session WHERE token_hash = $1`, tokenHash)
	return err
}

// PeopleOnRecord lists everybody, by name.
func (s *Store) PeopleOnRecord(ctx context.Context) (out []Person, err error) {
	err = s.db.SelectContext(ctx, &out, personColumns+` ORDER BY name`)
	return out, err
}

// SetRights sets what a person may do, and whose sites they see. Error: Missing.
func (s *Store) SetRights(ctx context.Context, name string, r Rights) error {
	done, err := s.db.ExecContext(ctx, `UPDATE person SET role = $2, tags = $3 WHERE name = $1`, name, r.Role, r.Tags)
	return affected(done, err, "person", "name", name)
}

// RemovePerson removes somebody with their sessions, keys and rules. Error: Missing.
func (s *Store) RemovePerson(ctx context.Context, name string) error {
	done, err := s.db.ExecContext(ctx, `DELETE FROM person WHERE name = $1`, name)
	return affected(done, err, "person", "name", name)
}

// OtherOwners counts the owners beside one, and keeps them from being edited until the transaction ends.
func (s *Store) OtherOwners(ctx context.Context, name string) (n int, err error) {
	var ids []int64
	err = s.db.SelectContext(ctx, &ids, `SELECT id FROM person WHERE role = 'owner' AND name <> $1 FOR UPDATE`, name)
	return len(ids), err
}

// PersonKeys lists the IDs of a person's keys.
func (s *Store) PersonKeys(ctx context.Context, name string) (ids []int64, err error) {
	err = s.db.SelectContext(ctx, &ids, `SELECT k.id FROM access_key k JOIN person p ON p.id = k.person_id WHERE p.name = $1`, name)
	return ids, err
}
