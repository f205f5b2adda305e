// Package proofs proves the way in: a number that nobody can guess is sent from here to an external port, and either arrives at the agent's
// machine or does not. A person has it done before the equipment is there, with a forward to the agent. And where a service fails and its
// link allows it, the router is asked to pass the port on to the agent for a moment: that tells a forward that is missing from a provider
// that lets nothing through.
//
// Its lock is held only while memory changes; nobody is called meanwhile.
package proofs

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
)

// Host is what the room asks of the engine.
type Host interface {
	// Review looks for faults of a site soon.
	Review(siteID int64)
}

// Proofs is the room. It is safe for concurrent use.
type Proofs struct {
	host   Host
	side   *siteside.Side
	record *record.Record
	events *events.Hub
	now    func() time.Time
	log    *slog.Logger
	wanted chan wanted

	mu     locks.Leaf
	trials map[int64]site.Trial  // by service
	lately map[int64][]time.Time // by link: when trials began
	under  map[int64]bool        // by service: a trial is wanted or under way
}

// New returns a room without any proof.
func New(host Host, side *siteside.Side, rec *record.Record, hub *events.Hub, now func() time.Time, log *slog.Logger) *Proofs {
	return &Proofs{host: host, side: side, record: rec, events: hub, now: now, log: log, wanted: make(chan wanted, waiting),
		trials: map[int64]site.Trial{}, lately: map[int64][]time.Time{}, under: map[int64]bool{}}
}

// Run makes the trials that are wanted until ctx ends: those of one link one after the other.
func (x *Proofs) Run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	busy := map[int64]chan struct{}{}
	for {
		select {
		case w := <-x.wanted:
			before := busy[w.link]
			done := make(chan struct{})
			busy[w.link] = done
			wg.Go(func() {
				defer close(done)
				if before != nil {
					select {
					case <-before:
					case <-ctx.Done():
						return
					}
				}
				x.try(ctx, w)
			})
		case <-ctx.Done():
			return
		}
	}
}

// Forget drops what is kept of links and services that are gone.
func (x *Proofs) Forget(gone record.Gone) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for id := range gone.Links {
		delete(x.lately, id)
	}
	for id := range gone.Services {
		delete(x.trials, id)
	}
}
