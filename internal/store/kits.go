package store

import (
	"context"
	"encoding/json"
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// Kits lists the kits that were made here, by name.
func (s *Store) Kits(ctx context.Context) ([]site.Kit, error) {
	var docs [][]byte
	if err := s.db.SelectContext(ctx, &docs, `SELECT doc FROM kit ORDER BY name`); err != nil {
		return nil, err
	}
	out := make([]site.Kit, len(docs))
	for i, doc := range docs {
		if err := json.Unmarshal(doc, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PutKit records a kit, or replaces the one that has its name.
func (s *Store) PutKit(ctx context.Context, k site.Kit, by string, at time.Time) error {
	doc, err := json.Marshal(k)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO kit (name, doc, at, person) VALUES ($1, $2, $3, $4)
		ON CONFLICT (name) DO UPDATE SET doc = excluded.doc, at = excluded.at, person = excluded.person`, k.Name, doc, at, by)
	return err
}

// RemoveKit removes a kit that was made here. Error: Missing.
func (s *Store) RemoveKit(ctx context.Context, name string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM kit WHERE name = $1`, name)
	return affected(r, err, "kit", "name", name)
}
