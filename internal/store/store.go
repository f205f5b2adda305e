// Package store keeps the records in PostgreSQL. It is the only package that speaks SQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"inkpost.example/inkpost/internal/core/site"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a pool of connections to one database. Its methods may be called from many goroutines.
type Store struct {
	db   *sqlx.DB
	pool *pgxpool.Pool
	// writes is for what is written thousands of times a second, by key. Its plans are made once, and for large tables however
	// small they are then: to plan such a statement anew for the values at hand takes longer than to carry it out.
	writes *pgxpool.Pool
}

// writers is how many connections there are for writes: one accepts moves, one settles them, one is spare.
const writers = 3

// Open connects to the PostgreSQL at url and brings the schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w; give one such as postgres://inkpost@127.0.0.1:5432/inkpost", err)
	}
	config.MaxConns = max(config.MaxConns, 8)
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	config = config.Copy()
	config.MaxConns = writers
	config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	for _, way := range []string{"enable_seqscan", "enable_hashjoin", "enable_mergejoin"} {
		config.ConnConfig.RuntimeParams[way] = "off"
	}
	writes, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	s := &Store{db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), pool: pool, writes: writes}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	if err := s.settleAccepted(ctx); err != nil {
		s.Close()
		return nil, err
	}
	if err := s.EnsurePartitions(ctx, time.Now()); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, dir)
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bring the schema up to date: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(s.pool), nil)
	if err != nil {
		return fmt.Errorf("migrations of the job queue: %w", err)
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the job queue's schema up to date: %w", err)
	}
	return nil
}

// Close releases all connections.
func (s *Store) Close() {
	_ = s.db.Close()
	s.pool.Close()
	s.writes.Close()
}

// Ping says whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// Missing reports that what was asked for is not on record.
type Missing = site.Missing

// Taken reports that a name is in use already. Field is the field that has to change.
type Taken struct{ Kind, Field, Name string }

func (e Taken) Error() string {
	return fmt.Sprintf("%s %q is taken; choose another or edit the one that has it", e.Kind, e.Name)
}

// InUse reports that something cannot be removed because something else needs it.
type InUse struct{ Kind, Name, By string }

func (e InUse) Error() string {
	return fmt.Sprintf("%s %q is in use by %s; remove or change that first", e.Kind, e.Name, e.By)
}

// explained turns what PostgreSQL reports into the errors of this package.
func explained(err error, kind, field, name string) error {
	var pg *pgconn.PgError
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return Missing{Kind: kind, Name: name}
	case errors.As(err, &pg) && pg.Code == "23505":
		return Taken{Kind: kind, Field: field, Name: name}
	case errors.As(err, &pg) && pg.Code == "23503":
		return InUse{Kind: kind, Name: name, By: "a " + pg.TableName}
	}
	return err
}

// affected turns "no row" of an UPDATE or DELETE into Missing.
func affected(r sql.Result, err error, kind, field, name string) error {
	if err != nil {
		return explained(err, kind, field, name)
	}
	if n, err := r.RowsAffected(); err == nil && n == 0 {
		return Missing{Kind: kind, Name: name}
	}
	return nil
}

// soon carries a statement out without waiting for the disk: what it writes is lost where the database's machine fails within
// the next fraction of a second. It is for what can be done without, so that announcements do not wait for it.
func (s *Store) soon(ctx context.Context, statement string, args ...any) error {
	var together pgx.Batch // one transaction
	together.Queue(`SET LOCAL synchronous_commit = off`)
	together.Queue(statement, args...)
	return s.writes.SendBatch(ctx, &together).Close()
}

// inTx runs f in one transaction: all of it is kept, or nothing.
func (s *Store) inTx(ctx context.Context, f func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}
