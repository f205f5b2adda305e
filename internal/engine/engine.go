// Package engine puts the rooms of the service together, and does what needs several of them at once: starting and stopping, following
// another server that writes, failover between the links of a site, proofs and reviews. The rooms are packages below it;
// docs/architecture.md
// says what each owns.
//
// It owns the role of this server and nothing else. The order of locks is that of package locks.
package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/checkup"
	"inkpost.example/inkpost/internal/engine/commissioning"
	"inkpost.example/inkpost/internal/engine/declared"
	"inkpost.example/inkpost/internal/engine/errands"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/faultedits"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/engine/following"
	"inkpost.example/inkpost/internal/engine/handover"
	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/intake"
	"inkpost.example/inkpost/internal/engine/jobs"
	"inkpost.example/inkpost/internal/engine/marks"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/noticeedits"
	"inkpost.example/inkpost/internal/engine/notices"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/proofs"
	"inkpost.example/inkpost/internal/engine/push"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/removals"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/shards"
	"inkpost.example/inkpost/internal/engine/siteedits"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/standing"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/engine/views"
	"inkpost.example/inkpost/internal/engine/zoneedits"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// Config of an engine.
type Config = rooms.Config

// Engine is the running service behind the API.
type Engine struct {
	*views.Views
	*errands.Errands
	*changes.Changes
	*faultedits.FaultEdits
	*siteedits.SiteEdits
	*zoneedits.ZoneEdits
	*intake.Intake
	*noticeedits.NoticeEdits
	*handover.Handover
	*removals.Removals
	Declared  *declared.Room
	Checkup   *checkup.Room
	Standing  *standing.Room
	Following *following.Following
	Events    *events.Hub
	Access    *access.Access
	SiteSide  *siteside.Side
	rooms     *rooms.Rooms
	led       bool          // it began as the writer's engine
	stopping  chan struct{} // closed when the engine stops
}

// New makes an engine and fills its memory from the database: on return the directory answers for every hosted zone. Error: that of the
// database.
func New(ctx context.Context, st *store.Store, directory *authdns.Directory, config Config) (*Engine, error) {
	config = config.WithDefaults()
	r := &rooms.Rooms{Config: config, Store: st.Now(), Events: events.NewHub(config.Clock),
		Record: &record.Record{}, Marks: &marks.Marks{}}
	e := &Engine{rooms: r, led: st.Leads(), stopping: make(chan struct{})}
	e.Views, e.Errands = &views.Views{Rooms: r}, &errands.Errands{Rooms: r}
	e.Changes = changes.New(e, r, e.stopping)
	e.Following = following.New(r, e.Changes)
	e.FaultEdits = &faultedits.FaultEdits{Rooms: r, Views: e.Views}
	e.SiteEdits = &siteedits.SiteEdits{Rooms: r, Changes: e.Changes, Views: e.Views}
	e.ZoneEdits = &zoneedits.ZoneEdits{Rooms: r, Changes: e.Changes, Views: e.Views}
	e.Handover = &handover.Handover{Rooms: r, Views: e.Views}
	e.Removals = &removals.Removals{Rooms: r, Changes: e.Changes}
	e.Declared = &declared.Room{Rooms: r, Changes: e.Changes, Sites: e.SiteEdits, Zones: e.ZoneEdits}
	e.Checkup = &checkup.Room{Rooms: r, Views: e.Views}
	e.Standing = &standing.Room{Rooms: r, Views: e.Views}
	e.NoticeEdits = &noticeedits.NoticeEdits{Rooms: r}
	e.Intake = intake.New(r, e.Changes, e.ZoneEdits, directory)
	if err := e.fill(ctx, st, directory); err != nil {
		return nil, err
	}
	e.Events, e.Access, e.SiteSide = r.Events, r.Access, r.SiteSide
	if err := r.Faults.Resume(ctx); err != nil || e.lost() {
		return e, err
	}
	r.Vantages.Reassign()
	return e, e.resumeMoves(ctx)
}

// fill makes the rooms, each with what the database has, in the order in which they need each other.
func (e *Engine) fill(ctx context.Context, st *store.Store, directory *authdns.Directory) (err error) {
	r := e.rooms
	r.Access = access.New(r.Store, e, r.Record, r.Clock, r.Log)
	r.Moves = moves.New(e.Changes, r.Events, r.Clock, r.Local, r.Counters, r.Log)
	r.Verify = verify.New(e, r.Record, r.Events, verify.Config{NameServer: r.NameServer, Resolvers: r.Resolvers, Every: r.VerifyEvery,
		Now: r.Clock, Log: r.Log})
	r.Zones = zones.New(e, r.Record, directory, r.RedirectAt, r.Clock, r.Log)
	r.Faults = faults.New(r, r.Store, r.Record, r.Events, r.Seen, r.Clock, r.Log)
	if r.SiteSide, err = siteside.New(ctx, e, r.Store, r.Record, r.Events,
		siteside.Config{CheckEvery: r.CheckEvery, ScanEvery: r.WatchEvery,
			HoldDown: r.HoldDown, Policy: r.Policy, Now: r.Clock, Ticks: r.Ticks, Log: r.Log}); err != nil {
		return err
	}
	r.Proofs = proofs.New(e, r.SiteSide, r.Record, r.Events, r.Clock, r.Log)
	if _, err := r.Record.LoadNow(ctx, r.Store); err != nil {
		return fmt.Errorf("read the record: %w", err)
	}
	r.Jobs = jobs.New(st.Pool(), r.Store.AdoptJobs, r.Quiet, r.Log)
	if r.Push, err = push.New(ctx, e, r.Store, r.Record, r.Zones, r.Events, r.Jobs,
		push.Config{Now: r.Clock, Ticks: r.Ticks, Counters: r.Counters, Log: r.Log}); err != nil {
		return err
	}
	if !e.lost() {
		if err := e.raiseSerials(ctx, r.Serials, "the copy of the zones on this machine's disk"); err != nil {
			return err
		}
	}
	if err := r.Zones.Replace(); err != nil {
		return err
	}
	for _, z := range r.Record.Zones() {
		r.Push.Due(z, false)
	}
	r.Shards = shards.New(r.Ticks)
	vantage, err := st.OwnVantage(ctx, r.Vantage, !e.lost())
	if err != nil {
		return err
	}
	if r.History, err = history.New(ctx, r.Store, r.Clock, r.Log); err != nil {
		return fmt.Errorf("read the history: %w", err)
	}
	if r.Prober, err = probing.New(ctx, e, r.Store, r.Record, r.History, r.Events, probing.Config{Vantage: vantage, Attempts: r.Attempts,
		Deadline: r.ProbeDeadline, CheckEvery: r.CheckEvery, NameServer: r.NameServer, Resolvers: r.Resolvers, Now: r.Clock,
		Ticks: r.Ticks, Speak: r.Speak, Log: r.Log}); err != nil {
		return err
	}
	if r.Notices, err = notices.New(ctx, e, r.Store, r.Record, r.Faults, r.Jobs, notices.Config{Mail: r.Mail, Hooks: r.Hooks,
		Console: r.ConsoleURL, Now: r.Clock, Counters: r.Counters, Log: r.Log}); err != nil {
		return err
	}
	if r.Runs, err = commissioning.New(ctx, r, r.Store, r.Record, r.Events, r.Clock, r.Log); err != nil {
		return err
	}
	if err := r.Jobs.Open(); err != nil {
		return err
	}
	r.Vantages, err = vantages.New(ctx, r.Store, r.Record, r.Prober, r.History, vantages.Config{Own: vantage, Deadline: r.ProbeDeadline,
		Now: r.Clock, Stopping: e.stopping, Log: r.Log})
	return err
}

// ErrStandby reports a change that was asked of a server that does not write: nothing was changed.
var ErrStandby = errors.New("this server stands by: another one writes to the database; nothing was changed here, try again shortly")

// Writable returns nil if this server takes what changes something, else why not: ErrStandby, or changes.ErrNotRecorded where the database
// went away and nothing is known of another writer.
func (e *Engine) Writable() error {
	if !e.lost() {
		return nil
	}
	select {
	case <-e.stopping:
		return changes.ErrNotRecorded
	default:
	}
	if e.led { // the database does not answer, or another server has just taken over
		return changes.ErrNotRecorded
	}
	return ErrStandby
}

// lost reports whether this server may not write: it stands by, or has lost its lease.
func (e *Engine) lost() bool { return !e.rooms.Store.Leads() }

// Follows reports whether this server was made to follow another one that writes.
func (e *Engine) Follows() bool { return e.lost() && !e.led }

// Stopping is closed when the engine ends: another one serves from then on.
func (e *Engine) Stopping() <-chan struct{} { return e.stopping }

// Standby reports whether this server only answers and shows what another one writes.
func (e *Engine) Standby() bool { return e.lost() }

// Writer names the server that writes, and says since when. Error: that of the database.
func (e *Engine) Writer(ctx context.Context) (server string, since time.Time, err error) {
	return e.rooms.Store.Writer(ctx)
}

// resumeFor is how old a move may be to be carried on after a restart. An older one is over: what is proven now, or what was put on
// record since, says nothing of it.
const resumeFor = time.Hour

// resumeMoves resumes moves that were not finished: only the stages that they lack are waited for.
func (e *Engine) resumeMoves(ctx context.Context) error {
	now := e.rooms.Now()
	unfinished, err := e.rooms.Store.Unfinished(ctx, now.Add(-resumeFor))
	if err != nil {
		return err
	}
	var republished []store.Stages
	for _, m := range unfinished {
		p, ok := e.rooms.Record.Site(m.SiteID)
		if !ok {
			continue
		}
		open := moves.Open{ID: m.ID, SiteID: m.SiteID, LinkID: m.LinkID, Answered: m.Answered,
			Unseen: !m.Seen && e.rooms.Verify.Resolvable(p.Hostnames)}
		if !m.Published {
			open.Zones = e.rooms.Push.ZonesOf(p.Hostnames)
			if e.rooms.Push.AtOnce(p.Hostnames) {
				republished = append(republished, store.Stages{MoveID: m.ID, Recorded: m.Received.Time, Published: now})
			}
		}
		if !m.Confirmed {
			open.Waiting = e.rooms.Prober.TriedOn(p, m.LinkID)
		}
		e.rooms.Moves.Begin(open)
	}
	return e.rooms.Store.Settle(ctx, store.Group{}, republished)
}

// Run keeps all loops going until ctx ends.
func (e *Engine) Run(ctx context.Context) {
	defer context.AfterFunc(ctx, func() { close(e.stopping) })()
	r := e.rooms
	// What the others see until they end is written after that.
	var writes sync.WaitGroup
	after, over := context.WithCancel(context.WithoutCancel(ctx))
	defer writes.Wait()
	defer over()
	for _, loop := range []func(context.Context){r.Moves.Run, r.History.Run} {
		writes.Go(func() { loop(after) })
	}
	var others sync.WaitGroup
	for _, loop := range []func(context.Context){
		e.Changes.Run, e.runTellMembers, e.runClock, e.runKeyUse, r.SiteSide.Run, r.Proofs.Run, r.Verify.Run, r.Faults.Run, r.Zones.Run,
		r.Jobs.Run, r.Push.Run, r.Notices.Run, r.Runs.Run, r.Prober.Run, r.Shards.Run, r.Vantages.Run,
	} {
		others.Go(func() { loop(ctx) })
	}
	others.Wait()
}
