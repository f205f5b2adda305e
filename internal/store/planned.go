package store

import (
	"context"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/fault"
)

// PlannedWork lists planned work, the earliest first.
func (s *Store) PlannedWork(ctx context.Context) ([]fault.Work, error) {
	var rows []struct {
		ID       int64  `db:"id"`
		Site     string `db:"site"`
		Tag      string `db:"tag"`
		Provider string `db:"provider"`
		Starts   when   `db:"starts"`
		Minutes  int    `db:"minutes"`
		Zone     string `db:"zone"`
		Repeats  string `db:"repeats"`
		Last     when   `db:"last_at"`
		Reason   string `db:"reason"`
		By       string `db:"planner"`
		FaultID  ref    `db:"fault_id"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT w.id, coalesce(s.code, '') AS site, w.tag, w.provider, w.starts, w.minutes, w.zone,
		w.repeats, w.last_at, w.reason, w.planner, w.fault_id FROM planned_work w LEFT JOIN site s ON s.id = w.site_id
		ORDER BY w.starts, w.id`)
	out := make([]fault.Work, 0, len(rows))
	for _, r := range rows {
		out = append(out, fault.Work{ID: r.ID, Scope: fault.Scope{Site: r.Site, Tag: r.Tag, Provider: r.Provider}, Starts: r.Starts.Time,
			Minutes: r.Minutes, Zone: r.Zone, Repeats: fault.Repeats(r.Repeats), Last: r.Last.Time, Reason: r.Reason, By: r.By,
			FaultID: int64(r.FaultID)})
	}
	return out, err
}

// PlanWork records planned work, of a site by its ID if it is not 0, and returns its ID.
func (s *Store) PlanWork(ctx context.Context, siteID int64, w fault.Work) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO planned_work (site_id, tag, provider, starts, minutes, zone, repeats, last_at, reason,
		planner, fault_id) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING id`, ref(siteID), w.Tag, w.Provider, w.Starts,
		w.Minutes, w.Zone, string(w.Repeats), when{w.Last}, w.Reason, w.By, ref(w.FaultID))
	return id, err
}

// EndWork ends planned work: what is under way ends now, and what has not begun does not begin. Error: Missing.
func (s *Store) EndWork(ctx context.Context, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM planned_work WHERE id = $1`, id)
	return affected(r, err, "planned work", "id", strconv.FormatInt(id, 10))
}

// FaultTimes are how long faults of one kind took to be noticed and mended.
type FaultTimes struct {
	Site     string  `db:"site"`
	Provider string  `db:"provider"`
	Cause    string  `db:"cause"`
	Faults   int     `db:"faults"`
	Open     int     `db:"open"`
	Notice   float64 `db:"notice"` // seconds, median
	Mend     float64 `db:"mend"`   // seconds, median; 0 where none was mended
	Longest  float64 `db:"longest"`
}

// Times of faults are grouped by one of these.
var timesBy = map[string]string{"site": "coalesce(s.code, '')", "cause": "f.finding->>'cause'", "provider": "coalesce(l.provider, '')"}

// FaultTimes groups the faults that opened since a moment by "site", "cause" or "provider", those with the most faults first. What a fault
// of an area explains counts once, with that fault.
func (s *Store) FaultTimes(ctx context.Context, by string, since time.Time) (out []FaultTimes, err error) {
	group := timesBy[by]
	err = s.db.SelectContext(ctx, &out, `SELECT `+group+` AS `+by+`, count(*) AS faults, count(*) FILTER (WHERE f.closed_at IS NULL) AS
		open,
		coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM f.opened_at - coalesce(f.began_at, f.opened_at))), 0) AS
			notice,
		coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM f.closed_at - f.opened_at))
			FILTER (WHERE f.closed_at IS NOT NULL), 0) AS mend,
		coalesce(max(extract(epoch FROM f.closed_at - f.opened_at)), 0)::float8 AS longest
		FROM fault f LEFT JOIN site s ON s.id = f.site_id
		LEFT JOIN LATERAL (SELECT CASE WHEN f.site_id IS NULL THEN substr(f.key, length('provider-outage provider ') + 1) ELSE
			(SELECT provider FROM link WHERE site_id = f.site_id ORDER BY f.finding->>'subject' = 'link ' || label DESC, position LIMIT 1)
			END AS provider) l ON true
		WHERE f.opened_at >= $1 AND f.under IS NULL GROUP BY 1 ORDER BY faults DESC, 1`, since)
	return out, err
}
