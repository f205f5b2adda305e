package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
)

// ErrNotWriter reports that another server writes to this database now: nothing was changed.
var ErrNotWriter = errors.New("another server writes to this database now; nothing was changed")

// The advisory lock of the writer: "ink" and a number of ours.
const lockSpace, lockWriter = 0x696e6b, 1

// leaseCheck is how often the lease's connection is asked for a sign of life, and leaseWait how long it may take.
const leaseCheck, leaseWait = time.Second, 2 * time.Second

// Lease is held by the one server that may write. It ends with its connection.
type Lease struct {
	Epoch int64
	lost  chan struct{}
	stop  context.CancelFunc
	done  sync.WaitGroup
}

// Lost is closed when the lease has ended.
func (l *Lease) Lost() <-chan struct{} { return l.lost }

// Release returns the lease up.
func (l *Lease) Release() {
	l.stop()
	l.done.Wait()
}

// Lead asks to be the writer. It returns nil if another server is. name says who we are, to people.
func (s *Store) Lead(ctx context.Context, name string) (*Lease, error) {
	config := s.pool.Config().ConnConfig.Copy()
	// A machine that loses power says nothing: PostgreSQL has to find out by itself, and soon.
	for param, value := range map[string]string{"application_name": "inkpost writer", "tcp_keepalives_idle": "1",
		"tcp_keepalives_interval": "1", "tcp_keepalives_count": "2", "tcp_user_timeout": "3000"} {
		config.RuntimeParams[param] = value
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	l, err := lead(ctx, conn, name)
	if l == nil {
		_ = conn.Close(context.WithoutCancel(ctx))
		return nil, err
	}
	s.lease.Store(l)
	return l, nil
}

func lead(ctx context.Context, conn *pgx.Conn, name string) (*Lease, error) {
	var ours bool
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock($1, $2)`, lockSpace, lockWriter).Scan(&ours); err != nil || !ours {
		return nil, err
	}
	l := &Lease{lost: make(chan struct{})}
	var known bool
	if err := conn.QueryRow(ctx, `SELECT to_regclass('writer') IS NOT NULL`).Scan(&known); err != nil {
		return nil, err
	}
	if known {
		if err := l.raise(ctx, conn, name); err != nil {
			return nil, err
		}
	}
	watch, stop := context.WithCancel(context.WithoutCancel(ctx))
	l.stop = stop
	l.done.Go(func() { l.watch(watch, conn) })
	return l, nil
}

type rowQuerier interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// raise begins another epoch. It waits for writes of the one before that are under way, and refuses those that come later.
func (l *Lease) raise(ctx context.Context, q rowQuerier, name string) error {
	return q.QueryRow(ctx, `UPDATE writer SET epoch = epoch + 1, server = $1, since_at = now() RETURNING epoch`, name).Scan(&l.Epoch)
}

// watch ends the lease when its connection does.
func (l *Lease) watch(ctx context.Context, conn *pgx.Conn) {
	defer close(l.lost)
	defer func() {
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaseWait)
		defer cancel()
		// The next server must not have to wait until PostgreSQL has noticed that the connection is closed.
		_, _ = conn.Exec(bounded, `SELECT pg_advisory_unlock($1, $2)`, lockSpace, lockWriter)
		_ = conn.Close(bounded)
	}()
	for ctx.Err() == nil {
		wait, cancel := context.WithTimeout(ctx, leaseCheck)
		_, err := conn.WaitForNotification(wait) // none is asked for: this notices at once that the connection is cut
		timedOut := wait.Err() != nil
		cancel()
		if err != nil && !timedOut {
			return
		}
		// a cancelled query closes the connection
		alive, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaseWait)
		err = conn.Ping(alive)
		cancel()
		if err != nil {
			return
		}
	}
}

// epoch is the one that we write in, 0 if we do not.
func (s *Store) epoch() int64 {
	l := s.lease.Load()
	if l == nil {
		return 0
	}
	select {
	case <-l.lost:
		return 0
	default:
		return l.Epoch
	}
}

// Now returns a store that is valid for as long as the present lease lasts, if any: what was read into memory under one lease is never
// written under another.
func (s *Store) Now() *Store {
	now := *s
	now.lease = &atomic.Pointer[Lease]{}
	now.lease.Store(s.lease.Load())
	return &now
}

// Leads reports whether we hold the lease.
func (s *Store) Leads() bool { return s.epoch() != 0 }

// Abandon returns the lease up without waiting, because the database says that it is another's.
func (s *Store) Abandon() {
	if l := s.lease.Load(); l != nil {
		l.stop()
	}
}

// ForgetLease lets go of a lease that has ended, so that another can be asked for.
func (s *Store) ForgetLease() { s.lease.Store(nil) }

// Writer names the server that writes, and says since when; "" if there was none yet.
func (s *Store) Writer(ctx context.Context) (server string, since time.Time, err error) {
	var row struct {
		Server string `db:"server"`
		Since  when   `db:"since_at"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT server, since_at FROM writer`)
	return row.Server, row.Since.Time, err
}

// What members are notified of, by NOTIFY.
const (
	ChannelRecord = "inkpost_record" // the record was edited
	ChannelMoves  = "inkpost_moves"  // moves were accepted
)

// Together carries out in one transaction what f does with the store that it is given: all of it is kept, or nothing. It is
// refused with ErrNotWriter where another server writes. Members are told that the record changed.
func (s *Store) Together(ctx context.Context, f func(tx *Store) error) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var told string // members hear of it when it is committed
		if err := tx.GetContext(ctx, &told, `SELECT pg_notify($2, '')::text FROM writer WHERE epoch = $1 FOR SHARE`, s.epoch(),
			ChannelRecord); err != nil {
			return notWriter(err)
		}
		return f(&Store{db: tx, tx: tx, pool: s.pool, writes: s.writes, lease: s.lease, ring: s.ring})
	})
}

// Takes returns nil when the database takes what is written: edits, and moves, which have connections of their own.
func (s *Store) Takes(ctx context.Context) error {
	if err := s.Together(ctx, func(*Store) error { return nil }); err != nil {
		return err
	}
	return s.writes.Ping(ctx)
}

func notWriter(err error) error {
	var missing Missing
	if errors.As(explained(err, "writer", "", ""), &missing) {
		return ErrNotWriter
	}
	return err
}

// TellMoves tells members that moves were accepted.
func (s *Store) TellMoves(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `SELECT pg_notify($1, '')`, ChannelMoves)
	return err
}

// Listen receives the writer's notifications until ctx ends or the connection does. It calls heard with the channel, and once with "" when
// listening has begun: what came before has to be read.
func (s *Store) Listen(ctx context.Context, heard func(channel string)) error {
	conn, err := pgx.ConnectConfig(ctx, s.pool.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	for _, channel := range []string{ChannelRecord, ChannelMoves} {
		if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
			return err
		}
	}
	heard("")
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		heard(n.Channel)
	}
}
