package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"inkpost.example/inkpost/internal/core/names"
)

// Pool is the pool of connections, for the job queue.
func (s *Store) Pool() *pgxpool.Pool { return s.pool }

// AdoptJobs takes over the jobs of servers that are gone: those that run by the queue's record, and not by own. It is for the writer, again
// and again: what a server that was killed had asked of the database may be carried out after that.
func (s *Store) AdoptJobs(ctx context.Context, own string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now() WHERE state = 'running'
		AND attempted_by[array_upper(attempted_by, 1)] IS DISTINCT FROM $1`, own)
	return err
}

// RemoteName is one name of a remote zone: what its primary last took of us and when, and how the tries since then went. Problem is empty
// if there was none.
type RemoteName struct {
	ZoneID  int64
	Name    names.Name
	Given   []names.Record
	GivenAt time.Time
	Tries   int
	Since   time.Time
	Problem string
	Detail  string
}

// RemoteNames lists the names of all remote zones.
func (s *Store) RemoteNames(ctx context.Context) ([]RemoteName, error) {
	var rows []struct {
		ZoneID  int64              `db:"zone_id"`
		Name    names.Name         `db:"name"`
		Given   list[names.Record] `db:"given"`
		GivenAt when               `db:"given_at"`
		Tries   int                `db:"tries"`
		Since   when               `db:"since_at"`
		Problem string             `db:"problem"`
		Detail  string             `db:"detail"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT zone_id, name, given, given_at, tries, since_at, problem, detail FROM remote_name
		ORDER BY zone_id, name`)
	out := make([]RemoteName, len(rows))
	for i, r := range rows {
		out[i] = RemoteName{ZoneID: r.ZoneID, Name: r.Name, Given: r.Given, GivenAt: r.GivenAt.Time, Tries: r.Tries,
			Since: r.Since.Time, Problem: r.Problem, Detail: r.Detail}
	}
	return out, err
}

// PutRemoteName records how one name stands.
func (s *Store) PutRemoteName(ctx context.Context, n RemoteName) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO remote_name (zone_id, name, given, given_at, tries, since_at, problem, detail)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (zone_id, name) DO UPDATE
			SET given = excluded.given, given_at = excluded.given_at,
		tries = excluded.tries, since_at = excluded.since_at, problem = excluded.problem, detail = excluded.detail`,
		n.ZoneID, n.Name, list[names.Record](n.Given), when{n.GivenAt}, n.Tries, when{n.Since}, n.Problem, n.Detail)
	return err
}

// DropRemoteName forgets a name that its primary no longer has of us.
func (s *Store) DropRemoteName(ctx context.Context, zoneID int64, name names.Name) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM remote_name WHERE zone_id = $1 AND name = $2`, zoneID, name)
	return err
}

// StartPushing lets a remote zone's names go to its primary.
func (s *Store) StartPushing(ctx context.Context, zoneID int64) error {
	r, err := s.db.ExecContext(ctx, `UPDATE zone SET pushing = true WHERE id = $1`, zoneID)
	return affected(r, err, "zone", "apex", "")
}

// queuePublished records which remote zones' primaries have taken which moves, and counts a move as published where it was
// not yet. Stages without a zone are left out.
func queuePublished(together *pgx.Batch, list []Stages) {
	var moves, zones []int64
	var at []time.Time
	for _, l := range list {
		if l.ZoneID != 0 {
			moves, zones, at = append(moves, l.MoveID), append(zones, l.ZoneID), append(at, l.Published)
		}
	}
	if len(moves) == 0 {
		return
	}
	together.Queue(`WITH t AS (SELECT * FROM unnest($1::bigint[], $2::bigint[], $3::timestamptz[]) AS t(move_id, zone_id, at)), pushed AS (
			INSERT INTO move_zone (move_id, zone_id, published_at)
			SELECT t.move_id, t.zone_id, t.at FROM t JOIN move ON move.id = t.move_id JOIN zone ON zone.id = t.zone_id
				ON CONFLICT DO NOTHING)
		UPDATE move SET published_at = first.at FROM (SELECT move_id, min(at) AS at FROM t GROUP BY move_id) first
		WHERE move.id = first.move_id AND published_at IS NULL`, moves, zones, at)
}
