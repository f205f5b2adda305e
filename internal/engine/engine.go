// Package engine holds the loops that do what the core decides: take announcements in, publish names, verify them, probe
// services, open and close faults. It is the only writer of the record.
package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/push"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// Config of an engine. Zero durations take the defaults.
type Config struct {
	Policy        wan.Policy    // which addresses may stand for a site
	Vantage       string        // what this server is called as a vantage point; "server" where empty
	ProbeDeadline time.Duration // how long a probe waits for an answer; 3 s
	// ShortestInterval is the shortest that a service may be probed at; pace.MinInterval. A lab may go below it.
	ShortestInterval time.Duration
	CheckEvery       time.Duration         // how often agents check their address; 15 s
	HoldDown         time.Duration         // how long a link has to work again before names come back to it; site.HoldDown
	WatchEvery       time.Duration         // how often agents look at the devices on record; 60 s
	VerifyEvery      time.Duration         // how often every hostname is asked for again; 60 s
	NameServer       string                // "host:port" of our own DNS server, which verification asks
	Attempts         int                   // how many attempts may be under way at once; the fewest that there may be where 0
	Local            *time.Location        // where the clocks of providers are; the machine's where nil
	Seen             map[FaultOf]time.Time // when faults were first seen that are not in the database yet
	Resolvers        []string              // "host:port" of resolvers elsewhere, which verification asks too
	RedirectAt       []netip.Addr          // addresses of the redirect listener, which redirect names answer
	Serials          map[string]uint32     // serials of zones, by apex, that are known to have been answered before
	Clock            func() time.Time      // time.Now
	// KeyRate is how many announcements a second one key may make.
	KeyRate float64
	// Ticks is the clock of schedules: it never steps, whatever becomes of the time of day. The process's own, or Clock where that is set.
	Ticks func() time.Time
	Log   *slog.Logger
}

func (c Config) withDefaults() Config {
	if c.Vantage == "" {
		c.Vantage = "server"
	}
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.ProbeDeadline, 3 * time.Second}, {&c.ShortestInterval, pace.MinInterval}, {&c.CheckEvery, 15 * time.Second}, {&c.VerifyEvery, time.Minute}, {&c.HoldDown, site.HoldDown}, {&c.WatchEvery, time.Minute}} {
		if *d.field == 0 {
			*d.field = d.value
		}
	}
	c.KeyRate = cmp.Or(c.KeyRate, KeyRate)
	if c.Ticks == nil {
		c.Ticks = c.Clock
	}
	if c.Ticks == nil {
		began := time.Now()
		c.Ticks = func() time.Time { return began.Add(time.Since(began)) } // time.Since reads the monotonic clock
	}
	if c.Clock == nil {
		// As fine as the database keeps times, so that what is in memory and what is read back are equal.
		c.Clock = func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	return c
}

// Engine is the running service behind the API.
type Engine struct {
	config    Config
	store     *store.Store
	directory *authdns.Directory
	log       *slog.Logger
	now       func() time.Time
	ticks     func() time.Time // for schedules
	listening time.Time        // since when silence of an agent proves something

	Events *events.Hub
	Access *access.Access
	led    bool // it began as the writer's engine

	// edit is held while the record changes, in the database first and in memory after, so that both change in the
	// same order. Whoever waits for it does so no longer than its context.
	edit *semaphore.Weighted
	// publishing is held while a group of recorded announcements is published. Whoever holds edit may take it, not the other
	// way round.
	publishing sync.Mutex
	record     record.Record
	zones      *zones.Zones
	history    *history.History
	SiteSide   *siteside.Side
	intake     chan pending
	verify     *verify.Verifier
	moves      *moves.Moves
	prober     *probing.Prober
	faults     faultBoard
	moveIDs    []int64 // that moves to come will have; under edit, as is how many were used
	movesUsed  int
	stopping   chan struct{} // closed when the engine stops
	push       *push.Pusher
	vantages   *vantages.Vantages

	// behindDatabase asks for memory to be brought in line, tellMembers for members to hear of accepted moves.
	behindDatabase, tellMembers chan struct{}
	updates                     access.Paces[string]
	writes                      writes
}

// New makes an engine and fills its memory from the database: on return the directory answers for every hosted zone.
func New(ctx context.Context, st *store.Store, directory *authdns.Directory, config Config) (*Engine, error) {
	config = config.withDefaults()
	if config.Local == nil {
		config.Local = time.Local
	}
	e := &Engine{led: st.Leads(),
		config: config, store: st.Now(), directory: directory, log: config.Log, now: config.Clock, ticks: config.Ticks, listening: config.Clock(),
		Events:  events.NewHub(config.Clock),
		edit:    semaphore.NewWeighted(1),
		updates: access.Paces[string]{Rate: config.KeyRate},

		behindDatabase: make(chan struct{}, 1), tellMembers: make(chan struct{}, 1),
		intake:   make(chan pending, 4096),
		stopping: make(chan struct{}),
	}
	e.Access = access.New(e.store, e, &e.record, e.now, e.log)
	e.moves = moves.New(tables{e}, e.Events, e.now, config.Local, e.log)
	e.verify = verify.New(e, &e.record, e.Events, verify.Config{NameServer: config.NameServer, Resolvers: config.Resolvers, Every: config.VerifyEvery, Now: e.now, Log: e.log})
	e.zones = zones.New(e, &e.record, directory, config.RedirectAt, e.now, e.log)
	e.faults.open = map[int64]map[string]openFault{}
	var err error
	if e.SiteSide, err = siteside.New(ctx, e, e.store, &e.record, e.Events, siteside.Config{CheckEvery: config.CheckEvery, ScanEvery: config.WatchEvery,
		HoldDown: config.HoldDown, Policy: config.Policy, Started: e.listening, Now: e.now, Log: e.log}); err != nil {
		return nil, err
	}
	if _, err := e.record.Load(ctx, e.store); err != nil {
		return nil, fmt.Errorf("read the record: %w", err)
	}
	if e.push, err = push.New(ctx, e, e.store, &e.record, e.zones, e.Events, st.Pool(), push.Config{Now: e.now, Ticks: e.ticks, Log: e.log}); err != nil {
		return nil, err
	}
	if !e.lost() {
		if err := e.raiseSerials(ctx, config.Serials, "the copy of the zones on this machine's disk"); err != nil {
			return nil, err
		}
	}
	if err := e.zones.Replace(); err != nil {
		return nil, err
	}
	for _, z := range e.record.Zones() {
		e.push.Due(z, false)
	}
	vantage, err := st.OwnVantage(ctx, config.Vantage, !e.lost())
	if err != nil {
		return nil, err
	}
	if e.history, err = history.New(ctx, e.store, e.now, e.log); err != nil {
		return nil, fmt.Errorf("read the history: %w", err)
	}
	if e.prober, err = probing.New(ctx, e, e.store, &e.record, e.history, e.Events, probing.Config{Vantage: vantage, Attempts: config.Attempts,
		Deadline: config.ProbeDeadline, CheckEvery: config.CheckEvery, NameServer: config.NameServer, Resolvers: config.Resolvers,
		Now: e.now, Ticks: e.ticks, Log: e.log}); err != nil {
		return nil, err
	}
	if e.vantages, err = vantages.New(ctx, e.store, &e.record, e.prober, e.history, vantages.Config{Own: vantage, Deadline: config.ProbeDeadline,
		Now: e.now, Stopping: e.stopping, Log: e.log}); err != nil {
		return nil, err
	}
	if err := e.resumeFaults(ctx); err != nil || e.lost() {
		return e, err
	}
	e.vantages.Reassign()
	return e, e.resumeMoves(ctx)
}

// ErrStandby reports a change that was asked of a server that does not write: nothing was changed.
var ErrStandby = errors.New("this server stands by: another one writes to the database; nothing was changed here, try again shortly")

// Writable returns nil where this server takes what changes something, else why not: ErrStandby, or ErrNotRecorded where the
// database went away and nothing is known of another writer.
func (e *Engine) Writable() error {
	if !e.lost() {
		return nil
	}
	select {
	case <-e.stopping:
		return ErrNotRecorded
	default:
	}
	if e.led { // the database does not answer, or another server has just taken over
		return ErrNotRecorded
	}
	return ErrStandby
}

// lost reports whether this server may not write: it stands by, or has lost its lease.
func (e *Engine) lost() bool { return !e.store.Leads() }

// Standby reports whether this server only answers and shows what another one writes.
func (e *Engine) Standby() bool { return e.lost() }

// loseLease gives the lease up when the database says that another server writes.
func (e *Engine) loseLease() { e.store.Abandon() }

// Writer names the server that writes, and says since when.
func (e *Engine) Writer(ctx context.Context) (server string, since time.Time, err error) {
	return e.store.Writer(ctx)
}

// resumeFaults takes up the faults that an earlier run left open.
func (e *Engine) resumeFaults(ctx context.Context) error {
	open, err := e.store.Faults(ctx, store.FaultFilter{OpenOnly: true, Limit: 1 << 20})
	if err != nil {
		return err
	}
	for _, f := range open {
		e.faults.put(f.SiteID, openFault{f.ID, f.Opened, f.Finding, told(f.Finding)})
	}
	return nil
}

// resumeFor is how old a move may be to be carried on after a restart. An older one is over: what is proven now, or what was put on
// record since, says nothing of it.
const resumeFor = time.Hour

// resumeMoves takes up moves that were not carried to their end: only the stages that they lack are waited for.
func (e *Engine) resumeMoves(ctx context.Context) error {
	now := e.now()
	unfinished, err := e.store.Unfinished(ctx, now.Add(-resumeFor))
	if err != nil {
		return err
	}
	var republished []store.Stages
	for _, m := range unfinished {
		p, ok := e.record.Site(m.SiteID)
		if !ok {
			continue
		}
		open := moves.Open{ID: m.ID, SiteID: m.SiteID, LinkID: m.LinkID, Answered: m.Answered, Unseen: !m.Seen && e.verify.Resolvable(p.Hostnames)}
		if !m.Published {
			open.Zones = e.push.ZonesOf(p.Hostnames)
			if e.push.AtOnce(p.Hostnames) {
				republished = append(republished, store.Stages{MoveID: m.ID, Recorded: m.Received.Time, Published: now})
			}
		}
		if !m.Confirmed {
			open.Waiting = e.prober.TriedOn(p, m.LinkID)
		}
		e.moves.Begin(open)
	}
	return e.store.Settle(ctx, store.Group{}, republished)
}

// Run keeps all loops going until ctx ends.
func (e *Engine) Run(ctx context.Context) {
	defer context.AfterFunc(ctx, func() { close(e.stopping) })()
	var wg sync.WaitGroup
	for _, loop := range []func(context.Context){
		e.runIntake, e.runCatchUp, e.runTellMembers, e.runClock, e.SiteSide.Run, e.runKeyUse, e.moves.Run, e.verify.Run, e.runReview, e.zones.Run, e.push.Run, e.prober.Run, e.history.Run, e.vantages.Run,
	} {
		wg.Go(func() { loop(ctx) })
	}
	wg.Wait()
	e.turnAway()
}

// tables writes the journal of moves, and remembers whether the database takes what is written.
type tables struct{ e *Engine }

// Settle implements moves.Tables.
func (t tables) Settle(ctx context.Context, g store.Group, stages []store.Stages) error {
	return t.e.writes.note(t.e.store.Settle(ctx, g, stages), t.e.now())
}

// ChangeTimes implements moves.Tables.
func (t tables) ChangeTimes(ctx context.Context, since time.Time, few int) (map[int64][]time.Time, error) {
	return t.e.store.ChangeTimes(ctx, since, few)
}

// signal wakes whoever waits for c, without blocking; signals coalesce.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
