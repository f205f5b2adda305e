package store

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
)

// Fault is an open or closed problem of a site, or of an area: then SiteID is 0.
type Fault struct {
	ID, SiteID     int64
	Under          int64 // the fault of an area that explains it; 0 for none
	Site, SiteName string
	Finding        diagnose.Finding
	Began          time.Time // the first sign of it
	Opened, Closed time.Time // Closed is zero while it is open
	Turned         time.Time // when it last opened, changed, came back or closed
	Returns        int       // how often it came back
	Taken          Taking
	Judgement      Judgement
}

// Taking is who has taken a fault up. Its fields are zero while nobody has.
type Taking struct {
	Acknowledged time.Time
	By           string // who acknowledged it
	Assigned     string // whose it is to mend
}

// FaultEvent is a line of a fault's timeline. By is the person who did it, "" where Ink Post did.
type FaultEvent struct {
	At    time.Time
	Kind  fault.Kind
	By    string
	Words string
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
	SiteID   ref    `db:"site_id"`
	Under    ref    `db:"under"`
	Site     string `db:"site"`
	SiteName string `db:"site_name"`
	Finding  []byte `db:"finding"`
	Began    when   `db:"began_at"`
	Opened   when   `db:"opened_at"`
	Closed   when   `db:"closed_at"`
	Turned   when   `db:"turned_at"`
	Returns  int    `db:"returns"`
	AckedAt  when   `db:"acknowledged_at"`
	AckedBy  string `db:"acknowledged_by"`
	Assigned string `db:"assigned"`
	JudgedAt when   `db:"judged_at"`
	JudgedBy string `db:"judged_by"`
	Right    bool   `db:"was_right"`
	Actual   string `db:"actual"`
	Note     string `db:"judge_note"`
}

func (r faultRow) value() (f Fault, err error) {
	f = Fault{ID: r.ID, SiteID: int64(r.SiteID), Under: int64(r.Under), Site: r.Site, SiteName: r.SiteName, Began: r.Began.Time,
		Opened: r.Opened.Time, Closed: r.Closed.Time, Turned: r.Turned.Time, Returns: r.Returns,
		Taken:     Taking{Acknowledged: r.AckedAt.Time, By: r.AckedBy, Assigned: r.Assigned},
		Judgement: Judgement{At: r.JudgedAt.Time, By: r.JudgedBy, Right: r.Right, Actual: causes.Slug(r.Actual), Note: r.Note}}
	if f.Began.IsZero() {
		f.Began = f.Opened
	}
	if f.Turned.IsZero() { // of before that was kept
		if f.Turned = f.Closed; f.Turned.IsZero() {
			f.Turned = f.Opened
		}
	}
	return f, json.Unmarshal(r.Finding, &f.Finding)
}

// FaultFilter narrows a list of faults. Zero fields do not narrow.
type FaultFilter struct {
	ID       int64
	SiteID   int64
	SiteIDs  []int64 // where it is not nil: the only sites
	Cause    causes.Slug
	OpenOnly bool
	Since    time.Time // those that are open, or were closed since
	Limit    int
}

// Faults lists faults: open ones first, then the newest.
func (s *Store) Faults(ctx context.Context, f FaultFilter) ([]Fault, error) {
	var rows []faultRow
	err := s.db.SelectContext(ctx, &rows, `SELECT f.id, f.site_id, f.under, coalesce(s.code, '') AS site, coalesce(s.name, '') AS site_name,
		f.finding, f.began_at, f.opened_at, f.closed_at, f.turned_at, f.returns, f.acknowledged_at, coalesce(f.acknowledged_by, '') AS
			acknowledged_by,
		coalesce(f.assigned, '') AS assigned,
		f.judged_at, coalesce(f.judged_by, '') AS judged_by, coalesce(f.was_right, false) AS was_right, coalesce(f.actual, '') AS actual,
		coalesce(f.judge_note, '') AS judge_note
		FROM fault f LEFT JOIN site s ON s.id = f.site_id
		WHERE ($1 = 0 OR f.site_id = $1) AND (NOT $2 OR f.closed_at IS NULL) AND ($3 = 0 OR f.id = $3)
		AND ($4::timestamptz IS NULL OR f.closed_at IS NULL OR f.closed_at >= $4) AND ($6::bigint[] IS NULL OR f.site_id = ANY($6))
			AND ($7 = '' OR f.finding->>'cause' = $7)
		ORDER BY f.closed_at IS NOT NULL, f.id DESC LIMIT $5`, f.SiteID, f.OpenOnly, f.ID, when{f.Since}, f.Limit, f.SiteIDs,
		f.Cause)
	if err != nil {
		return nil, err
	}
	out := make([]Fault, len(rows))
	for i, r := range rows {
		if out[i], err = r.value(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// SaveFault writes a fault as it is decided to be, with what its timeline lacks, and returns its ID. What people said of it stays.
func (s *Store) SaveFault(ctx context.Context, f Fault, events []FaultEvent) (id int64, err error) {
	finding, err := json.Marshal(f.Finding)
	if err != nil {
		return 0, err
	}
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if id = f.ID; id == 0 { // what was written before an answer got lost is not written twice
			if err := tx.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM fault WHERE site_id IS NOT DISTINCT FROM $1 AND key = $2
				AND closed_at IS NULL`, ref(f.SiteID), f.Finding.Key()); err != nil {
				return err
			}
		}
		if id == 0 {
			err = tx.GetContext(ctx, &id, `INSERT INTO fault (site_id, under, key, finding, began_at, opened_at, closed_at, returns,
				turned_at)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`, ref(f.SiteID), ref(f.Under), f.Finding.Key(), finding,
				when{f.Began},
				f.Opened, when{f.Closed}, f.Returns, when{f.Turned})
		} else {
			_, err = tx.ExecContext(ctx, `UPDATE fault SET under = $2, key = $3, finding = $4, closed_at = $5, returns = $6, turned_at = $7
				WHERE id = $1`, id, ref(f.Under), f.Finding.Key(), finding, when{f.Closed}, f.Returns, when{f.Turned})
		}
		if err != nil {
			return err
		}
		return addEvents(ctx, tx, id, events)
	})
	return id, err
}

func addEvents(ctx context.Context, tx *sqlx.Tx, id int64, events []FaultEvent) error {
	for _, e := range events {
		if _, err := tx.ExecContext(ctx, `INSERT INTO fault_event (fault_id, at, kind, doer, words)
			SELECT id, $2, $3, $4, $5 FROM fault WHERE id = $1 ON CONFLICT DO NOTHING`, id, e.At, string(e.Kind), e.By,
			e.Words); err != nil {
			return err
		}
	}
	return nil
}

// Timeline lists what happened to a fault, the oldest first.
func (s *Store) Timeline(ctx context.Context, id int64) (out []FaultEvent, err error) {
	var rows []struct {
		At    when   `db:"at"`
		Kind  string `db:"kind"`
		By    string `db:"doer"`
		Words string `db:"words"`
	}
	err = s.db.SelectContext(ctx, &rows, `SELECT at, kind, doer, words FROM fault_event WHERE fault_id = $1 ORDER BY at, id`, id)
	for _, r := range rows {
		out = append(out, FaultEvent{At: r.At.Time, Kind: fault.Kind(r.Kind), By: r.By, Words: r.Words})
	}
	return out, err
}

// TakeFault changes who has taken a fault up: take decides it, with the line that the timeline gets, from what stands there when nobody
// else changes it; without a kind, nothing changes. Error: Missing.
func (s *Store) TakeFault(ctx context.Context, id int64, take func(Taking) (Taking, FaultEvent)) (t Taking, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		var r faultRow
		if err := tx.GetContext(ctx, &r, `SELECT acknowledged_at, coalesce(acknowledged_by, '') AS acknowledged_by,
			coalesce(assigned, '') AS assigned FROM fault WHERE id = $1 FOR UPDATE`, id); err != nil {
			return explained(err, "fault", "id", strconv.FormatInt(id, 10))
		}
		var e FaultEvent
		if t, e = take(Taking{Acknowledged: r.AckedAt.Time, By: r.AckedBy, Assigned: r.Assigned}); e.Kind == "" {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `UPDATE fault SET acknowledged_at = $2, acknowledged_by = nullif($3, ''), assigned = nullif($4, '')
			WHERE id = $1`, id, when{t.Acknowledged}, t.By, t.Assigned); err != nil {
			return err
		}
		return addEvents(ctx, tx, id, []FaultEvent{e})
	})
	return t, err
}

// NoteFault adds a line to a fault's timeline. The fault has to be on record.
func (s *Store) NoteFault(ctx context.Context, id int64, e FaultEvent) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error { return addEvents(ctx, tx, id, []FaultEvent{e}) })
}

// JudgeFault keeps what a person said of a fault's cause, with a line of its timeline. Error: Missing.
func (s *Store) JudgeFault(ctx context.Context, id int64, j Judgement, e FaultEvent) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE fault SET judged_at = $2, judged_by = $3, was_right = $4, actual = $5, judge_note = $6 WHERE id = $1`,
			id, j.At, j.By, j.Right, string(j.Actual), j.Note)
		if err := affected(r, err, "fault", "id", strconv.FormatInt(id, 10)); err != nil {
			return err
		}
		return addEvents(ctx, tx, id, []FaultEvent{e})
	})
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
