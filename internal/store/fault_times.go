package store

import (
	"context"
	"time"
)

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
// of an area explains counts once, with that fault. siteIDs, where it is not nil, are the only sites.
func (s *Store) FaultTimes(ctx context.Context, by string, since time.Time, siteIDs []int64) (out []FaultTimes, err error) {
	group := timesBy[by]
	err = s.db.SelectContext(ctx, &out, `SELECT `+group+` AS `+by+`, count(*) AS faults, count(*) FILTER (WHERE f.closed_at IS NULL) AS
		open,
		coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM f.opened_at - coalesce(f.began_at, f.opened_at))), 0) AS
			notice,
		coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM f.closed_at - f.opened_at))
			FILTER (WHERE f.closed_at IS NOT NULL), 0) AS mend,
		coalesce(max(extract(epoch FROM f.closed_at - f.opened_at)), 0)::float8 AS longest
		FROM fault f LEFT JOIN site s ON s.id = f.site_id
		LEFT JOIN LATERAL (SELECT CASE WHEN f.site_id IS NULL THEN substring(f.key from '^provider-outage provider (.*)$') ELSE
			(SELECT provider FROM link WHERE site_id = f.site_id ORDER BY f.finding->>'subject' = 'link ' || label DESC, position LIMIT 1)
			END AS provider) l ON true
		WHERE f.opened_at >= $1 AND f.under IS NULL AND ($2::bigint[] IS NULL OR f.site_id = ANY($2))
		GROUP BY 1 ORDER BY faults DESC, 1`, since, siteIDs)
	return out, err
}
