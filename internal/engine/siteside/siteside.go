// Package siteside knows the sites from their own side: what agents and routers report of links and devices, when each link was last
// heard from, which links have nothing coming through, and what agents are asked to do. It never changes a link's address and never
// probes.
//
// The edit lock may be held when it is called. Its own locks are held only while memory changes; it calls the record, and nobody else,
// while it holds one.
package siteside

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
	"inkpost.example/inkpost/internal/store"
)

// Host is what the room asks of the engine.
type Host interface {
	// Review looks for faults of a site soon.
	Review(siteID int64)
	// FollowLinks makes the hostnames of a site follow the links that work, as Failing says.
	FollowLinks(ctx context.Context, siteID int64) error
}

// Config of the room.
type Config struct {
	CheckEvery time.Duration // how often agents check their address
	ScanEvery  time.Duration // how often agents look at the devices on record
	HoldDown   time.Duration // how long a link has to work again before names come back to it
	Policy     wan.Policy    // which addresses may stand for a site
	Now        func() time.Time
	Ticks      func() time.Time // never steps
	Log        *slog.Logger
}

// Side is the room. It is safe for concurrent use.
type Side struct {
	Config
	host     Host
	store    *store.Store
	record   *record.Record
	events   *events.Hub
	reports  reports
	heard    lastHeard
	failover failover
	tasks    agentTasks
	devices  deviceReports
	clock    clock
}

// New returns a room with what was known before a restart. Error: that of the database.
func New(ctx context.Context, host Host, st *store.Store, rec *record.Record, hub *events.Hub, c Config) (*Side, error) {
	s := &Side{Config: c, host: host, store: st, record: rec, events: hub, reports: newReports(), heard: newLastHeard(),
		failover: newFailover(),
		tasks:    newAgentTasks(), devices: newDeviceReports()}
	s.clock.since, s.clock.ahead = s.Now(), s.ahead()
	if err := s.loadReports(ctx); err != nil {
		return nil, fmt.Errorf("read what agents reported of links: %w", err)
	}
	if err := s.loadDevices(ctx); err != nil {
		return nil, fmt.Errorf("read what agents reported of devices: %w", err)
	}
	return s, nil
}

// Run writes what was reported in bulk and watches sites with several links, until ctx ends; what is left then is written first.
func (s *Side) Run(ctx context.Context) {
	var g errgroup.Group
	g.Go(func() error { s.runWrites(ctx); return nil })
	g.Go(func() error { s.runFailover(ctx); return nil })
	_ = g.Wait()
}

// runWrites writes last-heard times and reports in bulk: an announcement that changes nothing costs no transaction of its own.
func (s *Side) runWrites(ctx context.Context) {
	tick := rounds.Every(5 * time.Second)
	defer tick.Stop()
	for last := false; !last; {
		select {
		case <-tick.C:
			tick.Begun()
		case <-ctx.Done():
			last = true
		}
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		for what, write := range map[string]func(context.Context) error{
			"link reports": s.writeReports, "device reports": s.writeDevices, "last-heard times": s.writeHeard,
		} {
			if err := write(bounded); err != nil {
				s.Log.Warn(what+" could not be written; kept for the next try", "error", err)
			}
		}
		cancel()
	}
}

// Forget drops what is kept of links and devices that are gone.
func (s *Side) Forget(gone record.Gone) {
	s.reports.forget(gone)
	s.heard.forget(gone)
	s.failover.forget(gone)
	s.tasks.forget(gone)
	s.devices.forget(gone)
}

// drop deletes some IDs from a map.
func drop[T any](from map[int64]T, gone map[int64]bool) {
	for id := range gone {
		delete(from, id)
	}
}
