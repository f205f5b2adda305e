package store

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
)

// PutSpans writes spans in one statement; one that began at the same time is replaced by its longer self.
func (s *Store) PutSpans(ctx context.Context, spans []ledger.Span) error {
	n := len(spans)
	service, vantage := make([]int64, n), make([]int64, n)
	from, until := make([]time.Time, n), make([]time.Time, n)
	outcome := make([]string, n)
	count, timed, fastest, total, slowest := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n)
	for i, p := range spans {
		service[i], vantage[i], from[i], until[i], outcome[i] = p.ServiceID, p.VantageID, p.From, p.Until, string(p.Outcome)
		count[i], timed[i], fastest[i], total[i], slowest[i] = p.Count, p.Timed, p.Fastest, p.Total, p.Slowest
	}
	_, err := s.db.ExecContext(ctx, `INSERT INTO span (service_id, vantage_id, from_at, until_at, outcome, count, timed,
		fastest_us, total_us, slowest_us)
		SELECT * FROM unnest($1::bigint[], $2::bigint[], $3::timestamptz[], $4::timestamptz[], $5::text[], $6::bigint[],
			$7::bigint[], $8::bigint[], $9::bigint[], $10::bigint[])
		ON CONFLICT (service_id, vantage_id, from_at) DO UPDATE
			SET until_at = excluded.until_at, outcome = excluded.outcome, count = excluded.count,
			timed = excluded.timed, fastest_us = excluded.fastest_us, total_us = excluded.total_us, slowest_us = excluded.slowest_us`,
		service, vantage, from, until, outcome, count, timed, fastest, total, slowest)
	return err
}

const spanColumns = `SELECT s.service_id, s.vantage_id, v.name AS vantage, s.outcome, s.from_at, s.until_at, s.count, s.timed,
	s.fastest_us, s.total_us, s.slowest_us FROM span s JOIN vantage v ON v.id = s.vantage_id`

// Spans lists a service's spans that touch the time from..until, in order of vantage point and time.
func (s *Store) Spans(ctx context.Context, serviceID int64, from, until time.Time) ([]ledger.Span, error) {
	out := []ledger.Span{}
	err := s.db.SelectContext(ctx, &out, spanColumns+
		` WHERE s.service_id = $1 AND s.until_at >= $2 AND s.from_at <= $3 ORDER BY v.name, s.from_at`,
		serviceID, from, until)
	return utcSpans(out), err
}

// NewestSpans returns the newest span of every service and vantage point.
func (s *Store) NewestSpans(ctx context.Context) ([]ledger.Span, error) {
	var out []ledger.Span
	err := s.db.SelectContext(ctx, &out, `SELECT n.* FROM service k CROSS JOIN vantage w CROSS JOIN LATERAL (`+spanColumns+`
		WHERE s.service_id = k.id AND s.vantage_id = w.id ORDER BY s.from_at DESC LIMIT 1) n`)
	return utcSpans(out), err
}

func utcSpans(list []ledger.Span) []ledger.Span {
	for i := range list {
		list[i].From, list[i].Until = list[i].From.UTC(), list[i].Until.UTC()
	}
	return list
}

// ServiceState is a service's judged state, and since when. Proven is when it was first seen from outside to be as expected; zero if it
// never was.
type ServiceState struct {
	ServiceID int64
	State     probe.State
	Since     time.Time
	Proven    time.Time
}

// ServiceStates lists the judged state of every service.
func (s *Store) ServiceStates(ctx context.Context) ([]ServiceState, error) {
	var rows []struct {
		ServiceID int64       `db:"service_id"`
		State     probe.State `db:"state"`
		Since     when        `db:"since_at"`
		Proven    when        `db:"proven_at"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT service_id, state, since_at, proven_at FROM service_state`)
	out := make([]ServiceState, len(rows))
	for i, r := range rows {
		out[i] = ServiceState{r.ServiceID, r.State, r.Since.Time, r.Proven.Time}
	}
	return out, err
}

// PutServiceStates writes judged states; those of services that are gone are left out.
func (s *Store) PutServiceStates(ctx context.Context, list []ServiceState) error {
	n := len(list)
	ids, states, since, proven := make([]int64, n), make([]string, n), make([]time.Time, n), make([]*time.Time, n)
	for i, st := range list {
		ids[i], states[i], since[i] = st.ServiceID, string(st.State), st.Since
		if !st.Proven.IsZero() {
			proven[i] = &st.Proven
		}
	}
	_, err := s.db.ExecContext(ctx, `INSERT INTO service_state (service_id, state, since_at, proven_at)
		SELECT t.* FROM unnest($1::bigint[], $2::text[], $3::timestamptz[], $4::timestamptz[]) AS t(id, state, since, proven)
		JOIN service ON service.id = t.id ORDER BY t.id
		ON CONFLICT (service_id) DO UPDATE SET state = excluded.state, since_at = excluded.since_at,
			proven_at = coalesce(service_state.proven_at, excluded.proven_at)`, ids, states, since, proven)
	return err
}
