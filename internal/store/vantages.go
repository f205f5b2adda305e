package store

import (
	"context"
	"time"
)

// Vantage is a vantage point on record. The server's own has never enrolled.
type Vantage struct {
	ID       int64  `db:"id"`
	Name     string `db:"name"`
	Note     string `db:"note"`
	Enrolled when   `db:"enrolled_at"`
	Heard    when   `db:"heard_at"`
	Doc      []byte `db:"doc"` // what it last said of itself, as JSON
}

// OwnVantage returns the ID of the vantage point called name, made if it is new and make is set; 0 if it is not there.
func (s *Store) OwnVantage(ctx context.Context, name string, make bool) (int64, error) {
	var id int64
	if !make {
		err := s.db.GetContext(ctx, &id, `SELECT coalesce((SELECT id FROM vantage WHERE name = $1), 0)`, name)
		return id, err
	}
	err := s.db.GetContext(ctx, &id, `INSERT INTO vantage (name) VALUES ($1) ON CONFLICT (name) DO UPDATE SET name = excluded.name
		RETURNING id`, name)
	return id, err
}

// AddVantage records a vantage point that is to enrol.
func (s *Store) AddVantage(ctx context.Context, name, note string) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO vantage (name, note) VALUES ($1, $2) RETURNING id`, name, note)
	return id, explained(err, "vantage point", "name", name)
}

// Vantages lists the vantage points by name.
func (s *Store) Vantages(ctx context.Context) ([]Vantage, error) {
	var out []Vantage
	err := s.db.SelectContext(ctx, &out, `SELECT id, name, note, enrolled_at, heard_at, doc FROM vantage ORDER BY name`)
	return out, err
}

// NoteVantage writes what a vantage point last said of itself.
func (s *Store) NoteVantage(ctx context.Context, id int64, doc []byte, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE vantage SET doc = $2, heard_at = $3 WHERE id = $1`, id, string(doc), now)
	return err
}

// RemoveVantage removes a vantage point with its key; its history goes with the partitions that it is in.
func (s *Store) RemoveVantage(ctx context.Context, id int64, name string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM vantage WHERE id = $1`, id)
	return affected(r, err, "vantage point", "name", name)
}

// AddVantageEnrolment records a one-time code for a vantage point under the code's hash.
func (s *Store) AddVantageEnrolment(ctx context.Context, codeHash []byte, vantageID int64, expires time.Time) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO enrolment (code_hash, vantage_id, expires_at) VALUES ($1, $2, $3)`, codeHash,
		vantageID, expires)
	return err
}

// EnrolVantage uses up a one-time code and records the vantage point's key in place of any that it had, all or nothing. A
// code that is unknown, used or expired is Missing.
func (s *Store) EnrolVantage(ctx context.Context, codeHash, keyHash []byte, now time.Time) (vantageID int64, err error) {
	err = s.db.GetContext(ctx, &vantageID, `WITH used AS (
			UPDATE enrolment SET used_at = $3 WHERE code_hash = $1 AND used_at IS NULL AND expires_at > $3
				AND vantage_id IS NOT NULL RETURNING vantage_id),
		old AS (UPDATE access_key SET revoked_at = $3 FROM used WHERE access_key.vantage_id = used.vantage_id AND revoked_at IS NULL),
		told AS (UPDATE vantage SET enrolled_at = $3, heard_at = $3 FROM used WHERE vantage.id = used.vantage_id)
		INSERT INTO access_key (hash, scope, label, vantage_id) SELECT $2, 'vantage', 'vantage point', vantage_id FROM used
			RETURNING vantage_id`,
		codeHash, keyHash, now)
	return vantageID, explained(err, "enrolment code", "code", "given")
}
