package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/site"
)

// Sites lists the sites by code: one by its ID, or all where siteID is 0.
func (s *Store) Sites(ctx context.Context, siteID int64) ([]site.Site, error) {
	out := []site.Site{}
	err := s.selectOf(ctx, &out, `SELECT id, code, name, note, created_at, revision FROM site`, "id", siteID, "code")
	for i := range out {
		out[i].Created = out[i].Created.UTC()
	}
	return out, err
}

// Site finds a site by its code.
func (s *Store) Site(ctx context.Context, code string) (site.Site, error) {
	var out site.Site
	err := s.db.GetContext(ctx, &out, `SELECT id, code, name, note, created_at, revision FROM site WHERE code = upper($1)`, code)
	out.Created = out.Created.UTC()
	return out, explained(err, "site", "code", code)
}

// AddSite records a site and returns it with its ID.
func (s *Store) AddSite(ctx context.Context, in site.Site) (site.Site, error) {
	err := s.db.GetContext(ctx, &in, `INSERT INTO site (code, name, note) VALUES ($1, $2, $3)
		RETURNING id, code, name, note, created_at, revision`, in.Code, in.Name, in.Note)
	in.Created = in.Created.UTC()
	return in, explained(err, "site", "code", in.Code)
}

// EditSite writes the site's code, name and note by its ID.
func (s *Store) EditSite(ctx context.Context, in site.Site) error {
	r, err := s.db.ExecContext(ctx, `UPDATE site SET code = $2, name = $3, note = $4, revision = revision + 1 WHERE id = $1`, in.ID,
		in.Code, in.Name, in.Note)
	return affected(r, err, "site", "code", in.Code)
}

// RemoveSite removes a site and everything on its record, and raises the serial of every zone that loses a name. It
// returns those zones' new serials by zone ID.
func (s *Store) RemoveSite(ctx context.Context, in site.Site) (map[int64]uint32, error) {
	serials := map[int64]uint32{}
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := bumpWithout(ctx, tx, `h.site_id = $1`, in.ID, serials); err != nil {
			return err
		}
		// What refers to links and devices goes first: those references guard against removing one by itself.
		for _, table := range []string{"hostname", "service"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE site_id = $1`, in.ID); err != nil {
				return err
			}
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM site WHERE id = $1`, in.ID)
		return affected(r, err, "site", "code", in.Code)
	})
	return serials, err
}
