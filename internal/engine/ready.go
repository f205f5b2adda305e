package engine

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store"
)

// writes remembers whether the database takes what is written: it may answer and yet be full.
type writes struct {
	mu     sync.Mutex
	failed error
	since  time.Time
}

// note keeps how the newest write went, and hands its error on.
func (w *writes) note(err error, now time.Time) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case err == nil:
		w.failed = nil
	case w.failed == nil:
		w.failed, w.since = err, now
	default:
		w.failed = err
	}
	return err
}

func (w *writes) problem() (since time.Time, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.since, w.failed
}

// readyWait is how long the database may take to answer and count as there.
const readyWait = 2 * time.Second

// Ready reports whether the service can do all of its work, and what it does.
func (e *Engine) Ready(ctx context.Context) contract.Ready {
	ctx, cancel := context.WithTimeout(ctx, readyWait)
	defer cancel()
	out := contract.Ready{Ready: true, Database: "answers and takes what is written", Role: contract.RoleWriter, Names: "answered from memory"}
	if e.lost() {
		out.Role, out.Database = contract.RoleStandby, "answers"
		out.Names = "answered as another server writes them, a second late at most"
	}
	server, since, err := e.Writer(ctx)
	out.Writer, out.Since = server, since
	if err != nil {
		out.Ready, out.Database = false, "is away: names are answered, announcements are not recorded"
		return out
	}
	if _, failed := e.writes.problem(); failed != nil && !e.lost() { // has that passed?
		_ = e.writes.note(e.store.Together(ctx, func(*store.Store) error { return nil }), e.now())
	}
	if since, failed := e.writes.problem(); failed != nil && !e.lost() {
		out.Ready = false
		out.Database = "answers, and takes nothing that is written since " + since.Format(time.RFC3339) + ": " + failed.Error()
	}
	return out
}

// Now is the time of day, as the record keeps it.
func (e *Engine) Now() time.Time { return e.now() }
