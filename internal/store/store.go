// Package store keeps the records in PostgreSQL. It is the only package that speaks SQL.
//
// Errors of all methods: Missing, Taken and InUse, which name what they are about; ErrNotWriter for writes; that of PostgreSQL, of which
// Away tells whether it may pass.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store/seal"
)

//go:embed migrations/*.sql
var migrations embed.FS

// database is what statements go to: the pool, or one transaction of it.
type database interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, to any, query string, args ...any) error
	SelectContext(ctx context.Context, to any, query string, args ...any) error
}

// Store is a pool of connections to one database. Its methods may be called from many goroutines.
type Store struct {
	db   database
	tx   *sqlx.Tx // where the store stands for one transaction
	root *sqlx.DB
	pool *pgxpool.Pool
	// writes is for what is written thousands of times a second, by key. Its plans are made once, and for large tables however small they
	// are then: planning such a statement for each set of values takes longer than executing it.
	writes *pgxpool.Pool
	lease  *atomic.Pointer[Lease]
	ring   seal.Ring
}

// writers is how many connections there are for writes: one accepts moves, one settles them, one is spare.
const writers = 3

// No statement waits for ever: neither for its work nor for a lock; nor does a transaction for its owner.
var bounds = map[string]string{"statement_timeout": "10000", "lock_timeout": "5000", "idle_in_transaction_session_timeout": "15000"}

// connectWait is how long making one connection may take.
const connectWait = 5 * time.Second

// Connect makes a store of the PostgreSQL at url. It neither changes anything there nor needs it to answer yet.
func Connect(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w; give one such as postgres://inkpost@127.0.0.1:5432/inkpost", err)
	}
	config.MaxConns = max(config.MaxConns, 8)
	if config.ConnConfig.ConnectTimeout == 0 {
		config.ConnConfig.ConnectTimeout = connectWait
	}
	maps.Copy(config.ConnConfig.RuntimeParams, bounds)
	// A plan that was made while a table was small reads all of it, until statistics are made anew: by then there may be thousands
	// of rows. Without jit, as a way that is turned off counts as dear, and what is dear would be compiled each time.
	config.ConnConfig.RuntimeParams["enable_seqscan"] = "off"
	config.ConnConfig.RuntimeParams["jit"] = "off"
	config.ConnConfig.Tracer = traced{}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	config = config.Copy()
	config.MaxConns = writers
	config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	for _, way := range []string{"enable_hashjoin", "enable_mergejoin"} {
		config.ConnConfig.RuntimeParams[way] = "off"
	}
	writes, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	root := sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")
	return &Store{db: root, root: root, pool: pool, writes: writes, lease: &atomic.Pointer[Lease]{}}, nil
}

// Open connects to a database as its writer and brings its schema up to date: for programs that are alone with it. Error: ErrNotWriter if a
// server runs on it.
func Open(ctx context.Context, url string) (*Store, error) {
	s, err := Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	lease, err := s.Lead(ctx, "")
	if err == nil && lease == nil {
		err = ErrNotWriter
	}
	if err == nil {
		err = s.Prepare(ctx, "", time.Now())
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// ErrNewerSchema reports a database that a newer program has changed already: this one does not know what it holds.
type ErrNewerSchema struct{ Has, Known int64 }

func (e ErrNewerSchema) Error() string {
	return fmt.Sprintf("the database has schema %d, and this program knows up to %d: a newer inkpost has used it; run that one",
		e.Has, e.Known)
}

// ErrOlderSchema reports a database that is not brought up to date yet.
type ErrOlderSchema struct{ Has, Known int64 }

func (e ErrOlderSchema) Error() string {
	return fmt.Sprintf("the database has schema %d, and this program needs %d: inkpost serve brings it up to date", e.Has, e.Known)
}

// CheckSchema reports whether the schema is the one that this program knows. Errors: ErrNewerSchema, ErrOlderSchema.
func (s *Store) CheckSchema(ctx context.Context) error {
	known, err := knownSchema()
	if err != nil {
		return err
	}
	var there bool
	if err := s.db.GetContext(ctx, &there, `SELECT to_regclass('goose_db_version') IS NOT NULL`); err != nil {
		return err
	}
	var has int64
	if there {
		if err := s.db.GetContext(ctx, &has, `SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied`); err != nil {
			return err
		}
	}
	switch {
	case has > known:
		return ErrNewerSchema{has, known}
	case has < known:
		return ErrOlderSchema{has, known}
	}
	return nil
}

// knownSchema is the version of the newest migration.
func knownSchema() (newest int64, err error) {
	files, err := migrations.ReadDir("migrations")
	for _, f := range files {
		version, e := goose.NumericComponent(f.Name())
		newest, err = max(newest, version), errors.Join(err, e)
	}
	return newest, err
}

// Prepare brings the schema up to date and settles what an earlier writer accepted. Only the writer may call it; name is ours.
func (s *Store) Prepare(ctx context.Context, name string, now time.Time) error {
	var older ErrOlderSchema
	switch err := s.CheckSchema(ctx); {
	case errors.As(err, &older):
		if err := s.migrate(ctx); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	if err := s.migrateQueue(ctx); err != nil {
		return err
	}
	if l := s.lease.Load(); l != nil && l.Epoch == 0 { // the table was not there when we got the lock
		if err := l.raise(ctx, s.pool, name); err != nil {
			return err
		}
	}
	if !s.ring.Empty() {
		if err := s.resealAll(ctx); err != nil {
			return err
		}
	}
	if err := s.settleAccepted(ctx); err != nil {
		return err
	}
	return s.EnsurePartitions(ctx, now)
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	// A migration may take as long as it has to.
	config := s.pool.Config().ConnConfig.Copy()
	for bound := range bounds {
		delete(config.RuntimeParams, bound)
	}
	patient := stdlib.OpenDB(*config)
	defer patient.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, patient, dir)
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bring the schema up to date: %w", err)
	}
	return nil
}

func (s *Store) migrateQueue(ctx context.Context) error {
	queue, err := rivermigrate.New(riverpgxv5.New(s.pool), nil)
	if err != nil {
		return fmt.Errorf("migrations of the job queue: %w", err)
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the job queue's schema up to date: %w", err)
	}
	return nil
}

// Close returns the lease up and releases all connections.
func (s *Store) Close() {
	if l := s.lease.Load(); l != nil {
		l.Release()
	}
	_ = s.root.Close()
	s.pool.Close()
	s.writes.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.root.PingContext(ctx) }

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

// Away reports whether PostgreSQL said that it cannot do its work at present, or not in time: it stops (class 57), has no room,
// memory or connections left (53), does not take writes (25006), or a lock or a transaction was in the way (55P03, 40).
func Away(pg *pgconn.PgError) bool {
	for _, class := range []string{"57", "53", "08", "25006", "55P03", "40", "58"} {
		if strings.HasPrefix(pg.Code, class) {
			return true
		}
	}
	return false
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

// soon executes a statement with synchronous_commit off: what it writes is lost where the database's machine fails within
// the next fraction of a second. It is for what can be done without, so that announcements do not wait for it.
func (s *Store) soon(ctx context.Context, statement string, args ...any) error {
	tx, err := s.writes.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var together pgx.Batch
	together.Queue(`SET LOCAL synchronous_commit = off`)
	together.Queue(statement, args...)
	if err := tx.SendBatch(ctx, &together).Close(); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// selectOf reads rows in an order: those whose column is id, or all where id is 0. The two are statements of their own, so that each
// has the plan that fits it.
func (s *Store) selectOf(ctx context.Context, rows any, statement, column string, id int64, order string) error {
	if id == 0 {
		return s.db.SelectContext(ctx, rows, statement+` ORDER BY `+order)
	}
	return s.db.SelectContext(ctx, rows, statement+` WHERE `+column+` = $1 ORDER BY `+order, id)
}

// selectAt is selectOf with the rows at some names alone; without any, all of them.
func (s *Store) selectAt(ctx context.Context, rows any, statement, column string, id int64, name string, at []names.Name) error {
	if len(at) == 0 {
		return s.selectOf(ctx, rows, statement, column, id, name)
	}
	return s.db.SelectContext(ctx, rows, statement+` WHERE `+column+` = $1 AND `+name+` = ANY($2::text[]) ORDER BY `+name, id, at)
}

// inTx runs f in one transaction, the store's own where it has one: all of it is kept, or nothing.
func (s *Store) inTx(ctx context.Context, f func(*sqlx.Tx) error) error {
	if s.tx != nil {
		return f(s.tx)
	}
	tx, err := s.root.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}
