package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/site"
)

const siteColumns = `id, code, name, note, created_at, revision, tags, router`

type siteRow struct {
	site.Site
	Labels list[string] `db:"tags"`
}

func (r siteRow) value() site.Site {
	r.Site.Tags, r.Site.Created = r.Labels, r.Site.Created.UTC()
	return r.Site
}

// Sites lists the sites by code: one by its ID, or all where siteID is 0.
func (s *Store) Sites(ctx context.Context, siteID int64) ([]site.Site, error) {
	var rows []siteRow
	err := s.selectOf(ctx, &rows, `SELECT `+siteColumns+` FROM site`, "id", siteID, "code")
	out := make([]site.Site, len(rows))
	for i, r := range rows {
		out[i] = r.value()
	}
	return out, err
}

// Site finds a site by its code.
func (s *Store) Site(ctx context.Context, code string) (site.Site, error) {
	var out siteRow
	err := s.db.GetContext(ctx, &out, `SELECT `+siteColumns+` FROM site WHERE code = upper($1)`, code)
	return out.value(), explained(err, "site", "code", code)
}

// AddSite records a site and returns it with its ID.
func (s *Store) AddSite(ctx context.Context, in site.Site) (site.Site, error) {
	var out siteRow
	err := s.db.GetContext(ctx, &out, `INSERT INTO site (code, name, note, tags, router) VALUES ($1, $2, $3, $4, $5) RETURNING
		`+siteColumns, in.Code,
		in.Name, in.Note, list[string](in.Tags), in.Router)
	return out.value(), explained(err, "site", "code", in.Code)
}

// EditSite writes the site's own fields by its ID.
func (s *Store) EditSite(ctx context.Context, in site.Site) error {
	r, err := s.db.ExecContext(ctx, `UPDATE site SET code = $2, name = $3, note = $4, tags = $5, router = $6, revision = revision + 1 WHERE
		id = $1`,
		in.ID, in.Code, in.Name, in.Note, list[string](in.Tags), in.Router)
	return affected(r, err, "site", "code", in.Code)
}

// RemoveSite removes a site and everything on its record, and raises the serial of every zone that loses a name. It
// returns those zones' new serials by zone ID. Restore brings it back.
func (s *Store) RemoveSite(ctx context.Context, in site.Site, by Removal) (map[int64]uint32, error) {
	serials := map[int64]uint32{}
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := bumpWithout(ctx, tx, `h.site_id = $1`, in.ID, serials); err != nil {
			return err
		}
		if err := setAside(ctx, tx, "site", in.ID, 0, in.Code, by); err != nil {
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
