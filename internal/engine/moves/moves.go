// Package moves carries each WAN address change from the moment it is accepted to its end. It owns the moves that are still open, and
// the journal of what is durable but not in the tables that are read: accepted moves and the stages that moves have reached. From
// past moves it learns in which rhythm a link changes its address. It never decides whether an address changes, never publishes and
// never probes.
//
// The edit lock may be held when it is called. Its own locks are private and held only while memory changes, except for the one that
// keeps the writes of the journal in order (see Hold).
package moves

import (
	"context"
	"log/slog"
	"time"

	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
)

// Tables is where the journal is written to: the tables that are read. Settle is one transaction.
type Tables interface {
	Settle(ctx context.Context, g store.Group, stages []store.Stages) error
	// ChangeTimes returns when links changed their addresses since a time, the newest few of each.
	ChangeTimes(ctx context.Context, since time.Time, few int) (map[int64][]time.Time, error)
}

// Moves is the room. It is safe for concurrent use.
type Moves struct {
	tables   Tables
	events   *events.Hub
	log      *slog.Logger
	now      func() time.Time
	local    *time.Location // where the clocks of providers are
	open     openMoves
	journal  journal
	patterns patterns
	counters *counters.Counters
}

// New returns a room without moves.
func New(tables Tables, hub *events.Hub, now func() time.Time, local *time.Location, count *counters.Counters, log *slog.Logger) *Moves {
	return &Moves{tables: tables, events: hub, now: now, local: local, log: log, open: openMoves{byLink: map[int64]*Open{}},
		journal: newJournal(), counters: count}
}

// Run writes the journal into the tables and tells subscribers of progress, until ctx ends; what is left then is written first.
func (m *Moves) Run(ctx context.Context) {
	var g errgroup.Group
	g.Go(func() error { m.runCheckpoint(ctx); return nil })
	g.Go(func() error { m.runProgress(ctx); return nil })
	g.Go(func() error { m.runPatterns(ctx); return nil })
	_ = g.Wait()
}

// runProgress tells subscribers that moves have reached stages.
func (m *Moves) runProgress(ctx context.Context) {
	for {
		select {
		case <-m.journal.progressed:
		case <-ctx.Done():
			return
		}
		select {
		case <-time.After(progressDelay):
		case <-ctx.Done():
			return
		}
		m.events.Publish(events.MoveProgressed, "", "", "moves have progressed")
	}
}
