package store

import (
	"context"
	"encoding/json"
	"time"
)

// FieldChange is one field of a resource before and after an edit, as JSON.
type FieldChange struct {
	Field  string          `json:"field"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// Edit is one revision of a resource: who made it, when, and what changed with it.
type Edit struct {
	Kind     string            `db:"kind" json:"-"`
	Ref      int64             `db:"ref" json:"-"`
	Revision int64             `db:"revision" json:"revision"`
	Person   string            `db:"person" json:"person"`
	At       time.Time         `db:"at" json:"at"`
	Changes  list[FieldChange] `db:"changes" json:"changes"`
}

// editsKept is how many revisions of a resource are remembered.
const editsKept = 50

// NoteEdit writes down who made a revision.
func (s *Store) NoteEdit(ctx context.Context, e Edit) error {
	_, err := s.db.ExecContext(ctx, `WITH old AS (DELETE FROM edit WHERE kind = $1 AND ref = $2 AND revision <= $3::bigint - $7::bigint)
		INSERT INTO edit (kind, ref, revision, person, at, changes) VALUES ($1, $2, $3::bigint, $4, $5, $6)`,
		e.Kind, e.Ref, e.Revision, e.Person, e.At, e.Changes, editsKept)
	return err
}

// EditsSince lists the revisions of a resource after one, the oldest first.
func (s *Store) EditsSince(ctx context.Context, kind string, ref, revision int64) ([]Edit, error) {
	out := []Edit{}
	err := s.db.SelectContext(ctx, &out, `SELECT kind, ref, revision, person, at, changes FROM edit
		WHERE kind = $1 AND ref = $2 AND revision > $3 ORDER BY revision, id`, kind, ref, revision)
	for i := range out {
		out[i].At = out[i].At.UTC()
	}
	return out, err
}
