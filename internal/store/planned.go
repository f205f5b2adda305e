package store

import (
	"context"
	"strconv"

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
