package store

import (
	"context"
	"time"
)

// Review is an exposure review on record: who agreed to it, and what it found, as JSON.
type Review struct {
	ID      int64  `db:"id"`
	Person  string `db:"person"`
	Consent string `db:"consent"`
	Started when   `db:"started_at"`
	Ended   when   `db:"ended_at"`
	Doc     []byte `db:"doc"`
}

// BeginReview records that a review of a site begins, with the consent that it is made on. It is refused (ok false) where
// another began after since: two requests at once cannot both pass.
func (s *Store) BeginReview(ctx context.Context, siteID int64, person, consent string, now, since time.Time) (id int64, ok bool,
	err error) {
	var ids []int64
	err = s.db.SelectContext(ctx, &ids, `WITH s AS (SELECT id FROM site WHERE id = $1 FOR UPDATE)
		INSERT INTO exposure_review (site_id, person, consent, started_at)
		SELECT s.id, $2, $3, $4 FROM s WHERE NOT EXISTS (SELECT 1 FROM exposure_review r WHERE r.site_id = s.id
			AND r.started_at > $5) RETURNING id`,
		siteID, person, consent, now, since)
	if len(ids) == 1 {
		return ids[0], true, err
	}
	return 0, false, err
}

// EndReview writes what a review found, as JSON.
func (s *Store) EndReview(ctx context.Context, id int64, doc []byte, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE exposure_review SET ended_at = $2, doc = $3 WHERE id = $1`, id, now, string(doc))
	return err
}

// Reviews lists the reviews of a site, the newest first.
func (s *Store) Reviews(ctx context.Context, siteID int64) ([]Review, error) {
	var out []Review
	err := s.db.SelectContext(ctx, &out, `SELECT id, person, consent, started_at, ended_at, doc FROM exposure_review
		WHERE site_id = $1 ORDER BY id DESC LIMIT 50`, siteID)
	return out, err
}
