package changes

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/store"
)

// writes remembers whether the database takes what is written: it may answer and yet be full.
type writes struct {
	mu     locks.Leaf
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

// Settle implements moves.Tables, and remembers whether the database takes what is written.
func (ch *Changes) Settle(ctx context.Context, g store.Group, stages []store.Stages) error {
	return ch.writes.note(ch.Store.Settle(ctx, g, stages), ch.Now())
}

// ChangeTimes implements moves.Tables.
func (ch *Changes) ChangeTimes(ctx context.Context, since time.Time, few int) (map[int64][]time.Time, error) {
	return ch.Store.ChangeTimes(ctx, since, few)
}

// Failing returns since when the database has taken nothing that is written, and the newest error; nil when it takes it. A failure that
// has passed is noticed by writing nothing.
func (ch *Changes) Failing(ctx context.Context) (since time.Time, err error) {
	if _, failed := ch.writes.problem(); failed != nil {
		_ = ch.writes.note(ch.Store.Takes(ctx), ch.Now())
	}
	return ch.writes.problem()
}
