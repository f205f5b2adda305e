package daemon

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/seal"
)

// Of several servers on one database, one writes: the one that holds the database's lock. Each of the others stands by: it answers
// names and shows what the writer writes, and takes over when the lock is free.
const (
	// askEvery is how often a server that stands by asks for the lock.
	askEvery = 500 * time.Millisecond
	// enterWait is how long taking over the record may take.
	enterWait = 2 * time.Minute
)

// ended returns the error if it ends the program: a database that waiting will not make usable.
func ended(err error) bool {
	var newer store.ErrNewerSchema
	var pg *pgconn.PgError
	return errors.Is(err, seal.ErrClosed) || errors.As(err, &newer) || errors.As(err, &pg) && (pg.Code[:2] == "28" ||
		pg.Code[:2] == "3D" || pg.Code[:2] == "42")
}

// enter takes a role, once: writer if the lock is free, else standby. While the database is away, names are answered from the copy on disk.
// It returns an error if waiting is of no use.
func (d *Daemon) enter(ctx context.Context) error {
	err := d.store.CheckSchema(ctx)
	var older store.ErrOlderSchema
	if err != nil && !errors.As(err, &older) {
		if ended(err) || ctx.Err() != nil {
			return err
		}
		d.log.Warn("the database does not answer; waiting for it", "error", err)
		d.answerFromCopy()
		return nil
	}
	lease, err := d.store.Lead(ctx, d.name)
	switch {
	case err != nil && (ended(err) || ctx.Err() != nil):
		return err
	case err != nil:
		d.log.Warn("the database does not answer; waiting for it", "error", err)
		d.answerFromCopy()
	case lease != nil:
		if err := d.lead(ctx, lease); err != nil {
			if ended(err) || ctx.Err() != nil {
				return err
			}
			d.log.Warn("the record could not be read; trying again", "error", err)
			d.answerFromCopy()
		}
	case older != (store.ErrOlderSchema{}):
		d.log.Warn("standing by without the record: another server writes, and the schema is an older one than ours", "error", older)
		d.answerFromCopy()
	default:
		return d.standBy(ctx)
	}
	return nil
}

// lead makes this server the writer.
func (d *Daemon) lead(ctx context.Context, lease *store.Lease) error {
	ctx, cancel := context.WithTimeout(ctx, enterWait)
	defer cancel()
	seen, err := d.copy.read()
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		d.log.Warn("the copy of the zones is not compared with the database", "error", err)
	}
	known := serials(seen)
	for apex, serial := range serials(d.directory.Zones()) {
		known[apex] = serial // what was answered last
	}
	if err := d.store.Prepare(ctx, d.name, d.now()); err != nil {
		lease.Release()
		return err
	}
	if err := d.store.CheckSecrets(ctx); err != nil {
		lease.Release()
		return err
	}
	if err := d.members.introduce(ctx); err != nil {
		lease.Release()
		return err
	}
	config := d.config(known)
	if before := d.engine.Load(); before != nil {
		config.Seen = before.Unwritten()
	}
	e, err := engine.New(ctx, d.store, d.directory, config)
	if err != nil {
		lease.Release()
		return err
	}
	d.lease, d.adrift = lease, false
	d.swap(e, func(ctx context.Context) { e.Run(ctx) })
	d.log.Info("this server writes", "server", d.name, "epoch", lease.Epoch)
	return nil
}

// standBy makes this server one that stands by.
func (d *Daemon) standBy(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, enterWait)
	defer cancel()
	if err := d.store.CheckSecrets(ctx); err != nil {
		return err
	}
	e, err := engine.New(ctx, d.store, d.directory, d.config(nil))
	if err != nil {
		return err
	}
	d.lease, d.adrift = nil, false
	d.swap(e, e.Follow)
	writer, since, err := d.store.Writer(ctx)
	d.log.Info("this server stands by: names are answered, and what it is asked for is passed on", "writer", writer, "since", since)
	return err
}

// swap replaces the engine by another, and stops the one before.
func (d *Daemon) swap(e *engine.Engine, run func(context.Context)) {
	ctx, stop := context.WithCancel(d.ctx)
	var wg sync.WaitGroup
	before, end := d.engine.Swap(e), d.endEngine
	d.endEngine = func() { stop(); wg.Wait() }
	if e != nil {
		d.Names.Allow(e)
		debug.FreeOSMemory() // reading the record leaves much garbage
		wg.Go(func() { run(ctx) })
	}
	if before != nil {
		before.Events.Close()
	}
	if end != nil {
		end()
	}
}

// keepRole keeps this server in the role that it can have, until ctx ends.
func (d *Daemon) keepRole(ctx context.Context) {
	defer func() {
		if d.endEngine != nil {
			d.endEngine()
		}
	}()
	for ctx.Err() == nil {
		var lost <-chan struct{}
		if d.lease != nil {
			lost = d.lease.Lost()
		}
		select {
		case <-ctx.Done():
			return
		case <-lost:
			d.log.Error("the writer's lock is lost: this server accepts nothing any more", "server", d.name)
			d.lease, d.adrift = nil, true
			d.store.ForgetLease()
			if err := d.seek(ctx); err != nil {
				d.log.Warn("the database does not answer; names keep their answers, and services are still probed", "error", err)
			}
		case <-d.tick(lost):
			if err := d.seek(ctx); err != nil {
				if ended(err) {
					d.report(ctx, err)
					return
				}
				d.log.Warn("no role could be taken yet; trying again", "error", err)
			}
		}
	}
}

// tick is when to ask for the lock again; never for the writer.
func (d *Daemon) tick(lost <-chan struct{}) <-chan time.Time {
	if lost != nil {
		return nil
	}
	return time.After(askEvery)
}

// seek asks for the lock, or for the record if there is none in memory yet.
func (d *Daemon) seek(ctx context.Context) error {
	bounded, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	lease, err := d.store.Lead(bounded, d.name)
	if err != nil {
		return err
	}
	if lease != nil {
		return d.lead(ctx, lease)
	}
	if d.endEngine == nil || d.adrift { // the database was away, or another server has the lock that was ours
		if err := d.store.CheckSchema(bounded); err != nil {
			var older store.ErrOlderSchema
			if errors.As(err, &older) {
				return nil // the writer has to go before it can be brought up to date
			}
			return err
		}
		return d.standBy(ctx)
	}
	return nil
}

// serverName says which server this is, to people.
func serverName(url string) string {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	return fmt.Sprintf("%s (%s, process %d)", host, url, os.Getpid())
}
