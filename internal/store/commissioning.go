package store

import (
	"context"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/commission"
)

// Commissioning is a run through the steps by which services of a site come into use. Ended is zero while it is open.
type Commissioning struct {
	ID       int64
	SiteID   int64
	Began    time.Time
	By       string
	Ended    time.Time
	EndedBy  string
	Services []int64
	Results  []commission.Result
}

type commissioningRow struct {
	ID      int64  `db:"id"`
	SiteID  int64  `db:"site_id"`
	Began   when   `db:"began_at"`
	By      string `db:"began_by"`
	Ended   when   `db:"ended_at"`
	EndedBy string `db:"ended_by"`
}

// Commissionings lists the runs of a site, the newest first, or, where siteID is 0, the open ones of all sites.
func (s *Store) Commissionings(ctx context.Context, siteID int64) ([]Commissioning, error) {
	var rows []commissioningRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT id, site_id, began_at, began_by, ended_at, ended_by FROM commissioning
		WHERE CASE WHEN $1::bigint = 0 THEN ended_at IS NULL ELSE site_id = $1 END ORDER BY began_at DESC, id DESC LIMIT 1000`,
		siteID); err != nil {
		return nil, err
	}
	ids, place := make([]int64, len(rows)), map[int64]int{}
	out := make([]Commissioning, len(rows))
	for i, r := range rows {
		out[i] = Commissioning{ID: r.ID, SiteID: r.SiteID, Began: r.Began.Time, By: r.By, Ended: r.Ended.Time, EndedBy: r.EndedBy}
		ids[i], place[r.ID] = r.ID, i
	}
	var of []struct {
		Run     int64 `db:"run_id"`
		Service int64 `db:"service_id"`
	}
	if err := s.db.SelectContext(ctx, &of, `SELECT run_id, service_id FROM commissioning_service WHERE run_id = ANY($1::bigint[])
		ORDER BY service_id`, ids); err != nil {
		return nil, err
	}
	for _, r := range of {
		out[place[r.Run]].Services = append(out[place[r.Run]].Services, r.Service)
	}
	var results []struct {
		Run   int64  `db:"run_id"`
		Of    int64  `db:"of_id"`
		Step  string `db:"step"`
		State string `db:"state"`
		At    when   `db:"at"`
		By    string `db:"person"`
		Words string `db:"words"`
	}
	if err := s.db.SelectContext(ctx, &results, `SELECT run_id, of_id, step, state, at, person, words FROM commissioning_result
		WHERE run_id = ANY($1::bigint[]) ORDER BY at`, ids); err != nil {
		return nil, err
	}
	for _, r := range results {
		at := &out[place[r.Run]]
		at.Results = append(at.Results, commission.Result{Step: commission.Step(r.Step), Of: r.Of, State: commission.State(r.State),
			At: r.At.Time, By: r.By, Words: r.Words})
	}
	return out, nil
}

// BeginCommissioning records a run, or adds services to the one that is open at the site: two who begin at once are in the same. Error:
// that of the database; Missing for a site that is gone.
func (s *Store) BeginCommissioning(ctx context.Context, siteID int64, services []int64, by string, at time.Time) (id int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		var locked int64
		if err := tx.GetContext(ctx, &locked, `SELECT id FROM site WHERE id = $1 FOR UPDATE`, siteID); err != nil {
			return explained(err, "site", "id", strconv.FormatInt(siteID, 10))
		}
		err := tx.GetContext(ctx, &id, `INSERT INTO commissioning (site_id, began_at, began_by) VALUES ($1, $2, $3)
			ON CONFLICT (site_id) WHERE ended_at IS NULL DO UPDATE SET began_by = commissioning.began_by RETURNING id`, siteID, at, by)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO commissioning_service (run_id, service_id)
			SELECT $1, id FROM service WHERE id = ANY($2::bigint[]) AND site_id = $3 ON CONFLICT DO NOTHING`, id, services, siteID)
		return err
	})
	return id, err
}

// NoteResult records how a step of an open run ended; whoever is first stays. Errors: Missing where the run is over or gone, Taken where
// the step was over already, that of the database.
func (s *Store) NoteResult(ctx context.Context, run int64, r commission.Result) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var open int64
		if err := tx.GetContext(ctx, &open, `SELECT id FROM commissioning WHERE id = $1 AND ended_at IS NULL FOR SHARE`, run); err != nil {
			return explained(err, "open commissioning", "id", strconv.FormatInt(run, 10))
		}
		done, err := tx.ExecContext(ctx, `INSERT INTO commissioning_result (run_id, of_id, step, state, at, person, words)
			VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING`, run, r.Of, string(r.Step), string(r.State), r.At, r.By, r.Words)
		if err != nil {
			return err
		}
		if n, _ := done.RowsAffected(); n == 0 {
			return Taken{Kind: "step", Field: "step", Name: string(r.Step)}
		}
		return nil
	})
}

// ForgetResult makes a step of an open run due again. Error: Missing where it was not over.
func (s *Store) ForgetResult(ctx context.Context, run int64, step commission.Step, of int64) error {
	done, err := s.db.ExecContext(ctx, `DELETE FROM commissioning_result r USING commissioning c WHERE c.id = r.run_id
		AND c.ended_at IS NULL AND r.run_id = $1 AND r.step = $2 AND r.of_id = $3`, run, string(step), of)
	return affected(done, err, "result of step", "step", string(step))
}

// EndCommissioning ends a run. Error: Missing where it is over or gone.
func (s *Store) EndCommissioning(ctx context.Context, run int64, by string, at time.Time) error {
	done, err := s.db.ExecContext(ctx, `UPDATE commissioning SET ended_at = $2, ended_by = $3 WHERE id = $1 AND ended_at IS NULL`, run, at,
		by)
	return affected(done, err, "open commissioning", "id", strconv.FormatInt(run, 10))
}
