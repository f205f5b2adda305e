package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// Pool is how the connections to the database are used: those that are open, those of them in use, and how often, and for how long in all,
// somebody waited for one since the start.
type Pool struct {
	Open, InUse, Most int
	Waits             int64
	Waited            time.Duration
}

// Pools describes the two pools: "all" for what is read and written now and then, "moves" for what is written thousands of times a second.
func (s *Store) Pools() map[string]Pool {
	out := map[string]Pool{}
	for name, pool := range map[string]*pgxpool.Pool{"all": s.pool, "moves": s.writes} {
		now := pool.Stat()
		out[name] = Pool{int(now.TotalConns()), int(now.AcquiredConns()), int(now.MaxConns()), now.EmptyAcquireCount(),
			now.EmptyAcquireWaitTime()}
	}
	return out
}

// Jobs is how many jobs of a queue are in a state.
type Jobs struct {
	Queue, State string
	Count        int
}

// Jobs counts the jobs of the queue that are not done. Error: that of the database.
func (s *Store) Jobs(ctx context.Context) (out []Jobs, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT queue, state::text AS state, count(*) AS count FROM river_job
		WHERE state NOT IN ('completed', 'cancelled', 'discarded') GROUP BY 1, 2 ORDER BY 1, 2`)
	return out, err
}
