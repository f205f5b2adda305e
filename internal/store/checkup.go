package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"inkpost.example/inkpost/internal/core/checkup"
)

// Checkup finds out how the database stands. It returns no error: what is wrong is in the result.
func (s *Store) Checkup(ctx context.Context) (b checkup.Base) {
	failed := func(err error) bool {
		if err != nil && b.Trouble == "" {
			b.Trouble = err.Error()
		}
		return err != nil
	}
	if failed(s.root.PingContext(ctx)) { // a connection may have to be made first
		return b
	}
	began := time.Now()
	var now time.Time
	if failed(s.root.GetContext(ctx, &now, `SELECT clock_timestamp()`)) {
		return b
	}
	b.Took = time.Since(began)
	b.Offset = now.Sub(began.Add(b.Took / 2))
	var known int64
	known, err := knownSchema()
	failed(err)
	b.Has, b.Known = known, known
	var newer ErrNewerSchema
	var older ErrOlderSchema
	switch err := s.CheckSchema(ctx); {
	case errors.As(err, &newer):
		b.Has = newer.Has
	case errors.As(err, &older):
		b.Has = older.Has
	default:
		failed(err)
	}
	var row struct {
		Version string `db:"version"`
		Octets  uint64 `db:"octets"`
		Used    int    `db:"used"`
		Most    int    `db:"most"`
		Folder  string `db:"folder"`
	}
	// The folder is told to those who may read it, and is of use on the same machine only.
	if failed(s.root.GetContext(ctx, &row, `SELECT current_setting('server_version') AS version, pg_database_size(current_database()) AS
		octets,
		(SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend') AS used,
		current_setting('max_connections')::int AS most,
		coalesce((SELECT setting FROM pg_settings WHERE name = 'data_directory'
			AND coalesce(host(inet_server_addr()), '127.0.0.1') IN ('127.0.0.1', '::1')), '') AS folder`)) {
		return b
	}
	b.Version, b.Octets, b.Used, b.Most, b.Folder = row.Version, row.Octets, row.Used, row.Most, row.Folder
	if b.Has != b.Known {
		return b
	}
	if b.Writer, b.Since, err = s.Writer(ctx); !errors.Is(err, sql.ErrNoRows) {
		failed(err)
	}
	b.Sealed = !s.ring.Empty()
	var backup struct {
		At     when   `db:"made_at"`
		Octets uint64 `db:"octets"`
	}
	err = s.root.GetContext(ctx, &backup, `SELECT made_at, octets FROM backups ORDER BY made_at DESC LIMIT 1`)
	if !errors.Is(err, sql.ErrNoRows) {
		failed(err)
	}
	b.Backup, b.BackupOctets = backup.At.Time, backup.Octets
	return b
}
