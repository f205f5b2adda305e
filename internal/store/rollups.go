package store

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
)

// ServiceDay is one day of a service in the ledger.
type ServiceDay struct {
	ServiceID int64
	ledger.Day
}

// PutDays writes days in one statement; a day that is there is replaced.
func (s *Store) PutDays(ctx context.Context, days []ServiceDay) error {
	n := len(days)
	ids, starts, hours, latency := make([]int64, n), make([]time.Time, n), make([][]byte, n), make([][]byte, n)
	for i, d := range days {
		ids[i], starts[i] = d.ServiceID, d.Start
		hours[i], latency[i] = d.Pack()
	}
	_, err := s.db.ExecContext(ctx, `INSERT INTO rollup (service_id, day, hours, latency)
		SELECT t.id, (t.day AT TIME ZONE 'UTC')::date, t.hours, t.latency FROM unnest($1::bigint[], $2::timestamptz[], $3::bytea[], $4::bytea[]) AS t(id, day, hours, latency)
		ON CONFLICT (service_id, day) DO UPDATE SET hours = excluded.hours, latency = excluded.latency`, ids, starts, hours, latency)
	return err
}

// Days lists the days of services from the day of from on, by service.
func (s *Store) Days(ctx context.Context, services []int64, from time.Time) (map[int64][]ledger.Day, error) {
	rows, err := s.db.QueryxContext(ctx, `SELECT service_id, day, hours, latency FROM rollup WHERE service_id = ANY($1) AND day >= $2::date ORDER BY service_id, day`,
		services, ledger.DayOf(from).Format(time.DateOnly))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64][]ledger.Day{}
	for rows.Next() {
		var id int64
		var day time.Time
		var hours, latency []byte
		if err := rows.Scan(&id, &day, &hours, &latency); err != nil {
			return nil, err
		}
		out[id] = append(out[id], ledger.Unpack(day, hours, latency))
	}
	return out, rows.Err()
}

// Today lists the day of now of every service.
func (s *Store) Today(ctx context.Context, now time.Time) (map[int64]ledger.Day, error) {
	var rows []struct {
		ID      int64  `db:"service_id"`
		Hours   []byte `db:"hours"`
		Latency []byte `db:"latency"`
	}
	day := ledger.DayOf(now)
	err := s.db.SelectContext(ctx, &rows, `SELECT service_id, hours, latency FROM rollup WHERE day = $1::date`, day.Format(time.DateOnly))
	out := make(map[int64]ledger.Day, len(rows))
	for _, r := range rows {
		out[r.ID] = ledger.Unpack(day, r.Hours, r.Latency)
	}
	return out, err
}
