package store

import (
	"context"
	"fmt"
	"strconv"

	"inkpost.example/inkpost/internal/core/site"
)

// SiteFilter is what a list of sites is narrowed to, as the query of an address.
type SiteFilter struct {
	ID    int64  `db:"id" json:"id"`
	Query string `db:"query" json:"query"`
}

// SiteFilters lists those that a person keeps, in the order in which they were kept.
func (s *Store) SiteFilters(ctx context.Context, personID int64) ([]SiteFilter, error) {
	out := []SiteFilter{}
	err := s.db.SelectContext(ctx, &out, `SELECT id, query FROM site_filter WHERE person_id = $1 ORDER BY id`, personID)
	return out, err
}

// maxFilters is how many filters somebody may keep.
const maxFilters = 50

// KeepSiteFilter keeps a filter for a person; one that is kept already stays as it is. Error: site.Flaws where there are too many.
func (s *Store) KeepSiteFilter(ctx context.Context, personID int64, query string) (f SiteFilter, err error) {
	err = s.db.GetContext(ctx, &f, `INSERT INTO site_filter (person_id, query)
		SELECT $1, $2 WHERE (SELECT count(*) FROM site_filter WHERE person_id = $1 AND query <> $2) < $3
		ON CONFLICT (person_id, query) DO UPDATE SET query = excluded.query RETURNING id, query`, personID, query, maxFilters)
	if _, missing := explained(err, "", "", "").(Missing); missing {
		return f, site.Flaws{{Field: "query", Detail: fmt.Sprintf("you keep %d filters already; drop one first", maxFilters)}}
	}
	return f, err
}

// DropSiteFilter forgets a filter of a person. Error: Missing.
func (s *Store) DropSiteFilter(ctx context.Context, personID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM site_filter WHERE id = $2 AND person_id = $1`, personID, id)
	return affected(r, err, "filter", "id", strconv.FormatInt(id, 10))
}
