package store

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
)

// ServiceDay is one day of a service in the ledger.
type ServiceDay struct {
	ServiceID int64
	ledger.Day
}

// PutDays writes days that are over in one statement; a day that is there is replaced.
func (s *Store) PutDays(ctx context.Context, days []ServiceDay) error {
	return s.putDays(ctx, days, `INSERT INTO rollup (service_id, day, hours, latency)
		SELECT t.id, (t.day AT TIME ZONE 'UTC')::date, t.hours, t.latency FROM given t ORDER BY t.id
		ON CONFLICT (service_id, day) DO UPDATE SET hours = excluded.hours, latency = excluded.latency`)
}

// CopyHistory gives services the history that another one has: spans, days, and how it stands. What they have already stays.
func (s *Store) CopyHistory(ctx context.Context, from int64, to []int64) error {
	for _, statement := range []string{
		`INSERT INTO span (service_id, vantage_id, from_at, until_at, outcome, count, timed, fastest_us, total_us, slowest_us)
			SELECT t.id, vantage_id, from_at, until_at, outcome, count, timed, fastest_us, total_us, slowest_us
			FROM span, unnest($2::bigint[]) AS t(id) WHERE service_id = $1 ORDER BY t.id ON CONFLICT DO NOTHING`,
		`INSERT INTO rollup (service_id, day, hours, latency) SELECT t.id, day, hours, latency
			FROM rollup, unnest($2::bigint[]) AS t(id) WHERE service_id = $1 ORDER BY t.id ON CONFLICT DO NOTHING`,
		`INSERT INTO rollup_month (service_id, month, days) SELECT t.id, month, days
			FROM rollup_month, unnest($2::bigint[]) AS t(id) WHERE service_id = $1 ORDER BY t.id ON CONFLICT DO NOTHING`,
		`INSERT INTO rollup_today (service_id, day, hours, latency) SELECT t.id, day, hours, latency
			FROM rollup_today, unnest($2::bigint[]) AS t(id) WHERE service_id = $1 ORDER BY t.id ON CONFLICT DO NOTHING`,
		`INSERT INTO service_state (service_id, state, since_at, proven_at) SELECT t.id, state, since_at, proven_at
			FROM service_state, unnest($2::bigint[]) AS t(id) WHERE service_id = $1 ORDER BY t.id ON CONFLICT DO NOTHING`,
	} {
		if _, err := s.db.ExecContext(ctx, statement, from, to); err != nil {
			return err
		}
	}
	return nil
}

// PutToday writes days that are under way in one statement, each in the place of the one before it.
func (s *Store) PutToday(ctx context.Context, days []ServiceDay) error {
	return s.putDays(ctx, days, `INSERT INTO rollup_today (service_id, day, hours, latency)
		SELECT t.id, (t.day AT TIME ZONE 'UTC')::date, t.hours, t.latency FROM given t ORDER BY t.id
		ON CONFLICT (service_id) DO UPDATE SET day = excluded.day, hours = excluded.hours, latency = excluded.latency`)
}

// Rows of services are always written in the order of their IDs, so that two statements do not wait for each other.

func (s *Store) putDays(ctx context.Context, days []ServiceDay, statement string) error {
	n := len(days)
	ids, starts, hours, latency := make([]int64, n), make([]time.Time, n), make([][]byte, n), make([][]byte, n)
	for i, d := range days {
		ids[i], starts[i] = d.ServiceID, d.Start
		hours[i], latency[i] = d.Pack()
	}
	_, err := s.db.ExecContext(ctx, `WITH given AS (SELECT *
		FROM unnest($1::bigint[], $2::timestamptz[], $3::bytea[], $4::bytea[]) AS t(id, day, hours,
			latency)) `+statement, ids, starts, hours, latency)
	return err
}

// Days lists the days of services from the day of from on, by service and day.
func (s *Store) Days(ctx context.Context, services []int64, from time.Time) (map[int64][]ledger.Day, error) {
	rows, err := s.db.QueryxContext(ctx, `SELECT service_id, day, hours, latency FROM rollup WHERE service_id = ANY($1) AND day >= $2::date
		UNION ALL SELECT service_id, day, hours, latency FROM rollup_today t WHERE service_id = ANY($1) AND day >= $2::date
			AND NOT EXISTS (SELECT 1 FROM rollup r WHERE r.service_id = t.service_id AND r.day = t.day)
		ORDER BY service_id, day`, services, ledger.DayOf(from).Format(time.DateOnly))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64][]ledger.Day{}
	for rows.Next() {
		var id int64
		var day time.Time
		var hours, latency sql.RawBytes
		if err := rows.Scan(&id, &day, &hours, &latency); err != nil {
			return nil, err
		}
		days, ok := out[id]
		if !ok {
			days = make([]ledger.Day, 0, min(max(0, int(time.Since(from).Hours()/24))+2, 400))
		}
		out[id] = append(days, ledger.Unpack(day, hours, latency))
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	packed, err := s.months(ctx, services, ledger.MonthOf(from), time.Now())
	for id, list := range packed {
		list = slices.DeleteFunc(list, func(d ledger.Day) bool { return d.Start.Before(ledger.DayOf(from)) })
		out[id] = laidOver(list, out[id])
	}
	return out, err
}

// Today lists the day of now of every service. Days that an earlier run left under way and that are over by now are put
// among the others first.
func (s *Store) Today(ctx context.Context, now time.Time) (map[int64]ledger.Day, error) {
	day := ledger.DayOf(now)
	today := day.Format(time.DateOnly)
	if _, err := s.db.ExecContext(ctx, `WITH over AS (DELETE FROM rollup_today WHERE day < $1::date RETURNING *)
		INSERT INTO rollup (service_id, day, hours, latency) SELECT service_id, day, hours, latency FROM over
			ON CONFLICT (service_id, day) DO NOTHING`, today); err != nil {
		return nil, err
	}
	var rows []struct {
		ID      int64  `db:"service_id"`
		Hours   []byte `db:"hours"`
		Latency []byte `db:"latency"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT service_id, hours, latency FROM rollup_today WHERE day = $1::date`, today)
	out := make(map[int64]ledger.Day, len(rows))
	for _, r := range rows {
		out[r.ID] = ledger.Unpack(day, r.Hours, r.Latency)
	}
	return out, err
}
