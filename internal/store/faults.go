package store

import (
	"context"
	"encoding/json"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
)

// Fault is an open or closed problem of a site.
type Fault struct {
	ID, SiteID     int64
	Site, SiteName string
	Finding        diagnose.Finding
	Opened, Closed time.Time // Closed is zero while it is open
}

type faultRow struct {
	ID       int64  `db:"id"`
	SiteID   int64  `db:"site_id"`
	Site     string `db:"site"`
	SiteName string `db:"site_name"`
	Finding  []byte `db:"finding"`
	Opened   when   `db:"opened_at"`
	Closed   when   `db:"closed_at"`
}

// FaultFilter narrows a list of faults. Zero fields do not narrow.
type FaultFilter struct {
	SiteID   int64
	OpenOnly bool
	Limit    int
}

// Faults lists faults: open ones first, then the newest.
func (s *Store) Faults(ctx context.Context, f FaultFilter) ([]Fault, error) {
	var rows []faultRow
	err := s.db.SelectContext(ctx, &rows, `SELECT f.id, f.site_id, s.code AS site, s.name AS site_name, f.finding, f.opened_at, f.closed_at
		FROM fault f JOIN site s ON s.id = f.site_id
		WHERE ($1 = 0 OR f.site_id = $1) AND (NOT $2 OR f.closed_at IS NULL)
		ORDER BY f.closed_at IS NOT NULL, f.id DESC LIMIT $3`, f.SiteID, f.OpenOnly, f.Limit)
	if err != nil {
		return nil, err
	}
	out := make([]Fault, len(rows))
	for i, r := range rows {
		out[i] = Fault{ID: r.ID, SiteID: r.SiteID, Site: r.Site, SiteName: r.SiteName, Opened: r.Opened.Time, Closed: r.Closed.Time}
		if err := json.Unmarshal(r.Finding, &out[i].Finding); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// OpenFault opens a fault, or renews the finding of the one that is open under the same key. opened says which.
func (s *Store) OpenFault(ctx context.Context, siteID int64, f diagnose.Finding, now time.Time) (id int64, err error) {
	finding, err := json.Marshal(f)
	if err != nil {
		return 0, err
	}
	err = s.db.GetContext(ctx, &id, `INSERT INTO fault (site_id, key, finding, opened_at) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site_id, key) WHERE closed_at IS NULL DO UPDATE SET finding = excluded.finding RETURNING id`,
		siteID, f.Key(), finding, now)
	return id, err
}

// CloseFault closes the fault that is open under key.
func (s *Store) CloseFault(ctx context.Context, siteID int64, key string, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE fault SET closed_at = $3 WHERE site_id = $1 AND key = $2 AND closed_at IS NULL`, siteID,
		key, now)
	return err
}
