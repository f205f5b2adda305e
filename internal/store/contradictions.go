package store

import (
	"context"
	"fmt"
)

// Contradiction is something on record that cannot be so beside something else.
type Contradiction struct {
	Where string `db:"where" json:"where"`
	What  string `db:"what" json:"what"`
}

// contradictions are questions that a consistent database has no answer to. Each gives where something is wrong, and what.
var contradictions = []string{
	// The history.
	`SELECT format('service %s, vantage point %s, span from %s', service_id, vantage_id, from_at) AS "where",
		format('until %s, %s probes of which %s timed, %s to %s µs, %s in all', until_at, count, timed, fastest_us, slowest_us, total_us)
			AS what
		FROM span WHERE until_at < from_at OR count < 1 OR timed > count OR timed > 0 AND (fastest_us > slowest_us
			OR total_us < fastest_us OR total_us > timed * slowest_us)`,
	`SELECT format('service %s, vantage point %s, span from %s', service_id, vantage_id, from_at) AS "where",
		format('the one before it is until %s', before) AS what
		FROM (SELECT *, lag(until_at) OVER (PARTITION BY service_id, vantage_id ORDER BY from_at) AS before FROM span) t
		WHERE before > from_at`,
	`SELECT format('service %s, day %s', service_id, day) AS "where", 'is to come' AS what FROM rollup WHERE day > now() + interval '1
		day'`,
	`SELECT format('service %s, month %s', service_id, month) AS "where", 'begins in the middle of it' AS what FROM rollup_month
		WHERE month <> date_trunc('month', month)`,
	`SELECT format('service %s', service_id) AS "where", format('proven at %s, which is to come', proven_at) AS what FROM service_state
		WHERE proven_at > now() + interval '1 day'`,
	// Moves, and where links are.
	`SELECT format('move %s of link %s', id, link_id) AS "where",
		format('left %s, and the one before it, %s, went to %s', concat_ws(' ', old_ipv4, old_ipv6), before, concat_ws(' ', was4, was6))
			AS what
		FROM (SELECT *, lag(id) OVER w AS before, lag(new_ipv4) OVER w AS was4, lag(new_ipv6) OVER w AS was6 FROM move
			WINDOW w AS (PARTITION BY link_id ORDER BY id)) t
		WHERE before IS NOT NULL AND (old_ipv4, old_ipv6) IS DISTINCT FROM (was4, was6)`,
	`SELECT format('link %s', l.id) AS "where", format('is at %s, and its newest move, %s, went to %s', concat_ws(' ', l.ipv4, l.ipv6),
		m.id,
			concat_ws(' ', m.new_ipv4, m.new_ipv6)) AS what
		FROM link l JOIN LATERAL (SELECT * FROM move WHERE link_id = l.id ORDER BY id DESC LIMIT 1) m ON true
		WHERE (l.ipv4, l.ipv6) IS DISTINCT FROM (m.new_ipv4, m.new_ipv6)`,
	`SELECT format('move %s', id) AS "where", format('received %s, recorded %s, published %s, answered %s', received_at, recorded_at,
			published_at, answered_at) AS what
		FROM move WHERE recorded_at < received_at OR published_at < recorded_at`,
	// Faults.
	`SELECT format('fault %s', id) AS "where", format('opened %s, closed %s', opened_at, closed_at) AS what FROM fault
		WHERE closed_at < opened_at`,
	`SELECT format('site %s', coalesce(site_id, 0)) AS "where", format('%s faults are open at once of %s', count(*), key) AS what FROM fault
		WHERE closed_at IS NULL GROUP BY site_id, key HAVING count(*) > 1`,
	// Who was told.
	`SELECT format('notice %s', notice_id) AS "where", format('%s deliveries by %s', count(*), way) AS what FROM delivery
		WHERE push_id IS NULL GROUP BY notice_id, way, target HAVING count(*) > 1`,
	`SELECT format('delivery %s', id) AS "where", format('waits, and was done %s', done_at) AS what FROM delivery
		WHERE state = 'waiting' AND done_at IS NOT NULL`,
	// Names elsewhere.
	`SELECT format('name %s', r.name) AS "where", format('is pushed to the primary of %s, which is hosted here', z.apex) AS what
		FROM remote_name r JOIN zone z ON z.id = r.zone_id WHERE z.kind = 'hosted'`,
}

// contradictionsShown is how many of each kind are told.
const contradictionsShown = 20

// Contradictions looks for what cannot be so, and says how many kinds it looked for. Error: that of the database.
func (s *Store) Contradictions(ctx context.Context) (found []Contradiction, kinds int, err error) {
	for _, question := range contradictions {
		var rows []Contradiction
		if err := s.db.SelectContext(ctx, &rows, fmt.Sprintf(`%s LIMIT %d`, question, contradictionsShown)); err != nil {
			return nil, 0, err
		}
		found = append(found, rows...)
	}
	return found, len(contradictions), nil
}
