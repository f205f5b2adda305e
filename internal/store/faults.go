package store

import (
	"cmp"
	"context"
	"encoding/json"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

// Fault is an open or closed problem of a site.
type Fault struct {
	ID, SiteID     int64
	Site, SiteName string
	Finding        diagnose.Finding
	Opened, Closed time.Time // Closed is zero while it is open
	Judgement      Judgement
}

// Judgement is what a person said of a fault's cause afterwards. At is zero while nobody has.
type Judgement struct {
	At     time.Time
	By     string
	Right  bool
	Actual causes.Slug // what it was, where that is one of the table
	Note   string
}

type faultRow struct {
	ID       int64  `db:"id"`
	SiteID   int64  `db:"site_id"`
	Site     string `db:"site"`
	SiteName string `db:"site_name"`
	Finding  []byte `db:"finding"`
	Opened   when   `db:"opened_at"`
	Closed   when   `db:"closed_at"`
	JudgedAt when   `db:"judged_at"`
	JudgedBy string `db:"judged_by"`
	Right    bool   `db:"was_right"`
	Actual   string `db:"actual"`
	Note     string `db:"judge_note"`
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
	err := s.db.SelectContext(ctx, &rows, `SELECT f.id, f.site_id, s.code AS site, s.name AS site_name, f.finding, f.opened_at, f.closed_at,
		f.judged_at, coalesce(f.judged_by, '') AS judged_by, coalesce(f.was_right, false) AS was_right, coalesce(f.actual, '') AS actual,
		coalesce(f.judge_note, '') AS judge_note
		FROM fault f JOIN site s ON s.id = f.site_id
		WHERE ($1 = 0 OR f.site_id = $1) AND (NOT $2 OR f.closed_at IS NULL)
		ORDER BY f.closed_at IS NOT NULL, f.id DESC LIMIT $3`, f.SiteID, f.OpenOnly, f.Limit)
	if err != nil {
		return nil, err
	}
	out := make([]Fault, len(rows))
	for i, r := range rows {
		out[i] = Fault{ID: r.ID, SiteID: r.SiteID, Site: r.Site, SiteName: r.SiteName, Opened: r.Opened.Time, Closed: r.Closed.Time,
			Judgement: Judgement{At: r.JudgedAt.Time, By: r.JudgedBy, Right: r.Right, Actual: causes.Slug(r.Actual), Note: r.Note}}
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

// JudgeFault keeps what a person said of a fault's cause. Error: Missing.
func (s *Store) JudgeFault(ctx context.Context, id int64, j Judgement) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE fault SET judged_at = $2, judged_by = $3, was_right = $4, actual = $5, judge_note = $6 WHERE id = $1`,
		id, j.At, j.By, j.Right, string(j.Actual), j.Note)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return cmp.Or(err, error(Missing{Kind: "fault", Name: strconv.FormatInt(id, 10)}))
	}
	return nil
}

// Told counts what was said of faults with one cause, and what people said of it afterwards.
type Told struct {
	Cause  string `db:"cause"`
	Actual string `db:"actual"` // what it was instead; "" where the cause was right, or nobody said
	Faults int    `db:"faults"`
	Judged int    `db:"judged"`
	Right  int    `db:"was_right"`
}

// FaultsTold counts the faults of each cause and of what they were instead, the most first.
func (s *Store) FaultsTold(ctx context.Context) (out []Told, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT finding->>'cause' AS cause, CASE WHEN was_right THEN '' ELSE coalesce(actual, '') END AS actual,
		count(*) AS faults, count(judged_at) AS judged, count(*) FILTER (WHERE was_right) AS was_right
		FROM fault GROUP BY 1, 2 ORDER BY 3 DESC, 1, 2`)
	return out, err
}
