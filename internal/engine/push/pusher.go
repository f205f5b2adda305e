// Package push brings the names of remote zones to their primaries by DNS UPDATE. It owns what each primary has taken, the pauses
// after failures, and the durable queue of what is on its way. It never decides what a name should have (see package zones) and never
// changes the record.
//
// Any lock may be held when Add, Due, Of and the other questions are called. Run and what it calls hold no lock of the engine.
package push

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"github.com/riverqueue/river"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/jobs"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
)

// Host is what the room asks of the engine.
type Host interface {
	// Taken notes that the primary of a zone has taken a hostname; done reports whether it has all names of the hostname's site.
	Taken(h site.Hostname, zoneID int64, at time.Time, done bool)
	// Retain makes room for the history to come and drops what is too old.
	Retain(ctx context.Context) error
}

// Table is where the room keeps what primaries have taken: the database.
type Table interface {
	RemoteNames(ctx context.Context) ([]store.RemoteName, error)
	PutRemoteName(ctx context.Context, n store.RemoteName) error
	DropRemoteName(ctx context.Context, zoneID int64, name names.Name) error
}

// Config of the room.
type Config struct {
	Now   func() time.Time
	Ticks func() time.Time // the clock of schedules, which never steps
	// Counters count the tries; nil counts nothing.
	Counters *counters.Counters
	Log      *slog.Logger
}

// Pusher is the room. It is safe for concurrent use.
type Pusher struct {
	host       Host
	table      Table
	record     *record.Record
	zones      *zones.Zones
	events     *events.Hub
	now, ticks func() time.Time
	log        *slog.Logger
	counters   *counters.Counters
	queue      *jobs.Queue
	added      chan adding
	state      remoteState
}

// New returns a room that knows what primaries have taken so far. Error: that of the database.
func New(ctx context.Context, host Host, table Table, rec *record.Record, z *zones.Zones, hub *events.Hub,
	queue *jobs.Queue, c Config) (*Pusher, error) {
	p, err := remembering(ctx, host, table, rec, z, hub, c)
	if err != nil {
		return nil, err
	}
	p.queue = queue
	jobs.Do(queue, river.QueueDefault, maxWorkers, &worker{pusher: p})
	jobs.Do(queue, river.QueueDefault, maxWorkers, &retainWorker{pusher: p})
	queue.Every(retainEvery, RetainArgs{})
	return p, nil
}

// remembering is a room without its queue.
func remembering(ctx context.Context, host Host, table Table, rec *record.Record, z *zones.Zones, hub *events.Hub,
	c Config) (*Pusher, error) {
	p := &Pusher{host: host, table: table, record: rec, zones: z, events: hub, now: c.Now, ticks: c.Ticks, log: c.Log, counters: c.Counters,
		added: make(chan adding, 4096),
		state: remoteState{names: map[key]store.RemoteName{}, resting: map[int64]time.Time{}, trying: map[int64]bool{},
			back: map[int64]bool{}, next: map[key]time.Time{}}}
	list, err := table.RemoteNames(ctx)
	if err != nil {
		return nil, fmt.Errorf("read what primaries have: %w", err)
	}
	for _, n := range list {
		p.state.put(n)
	}
	return p, nil
}

// Add queues a name of a remote zone to be pushed.
func (p *Pusher) Add(zoneID int64, name names.Name) { p.add(key{zoneID, name}, false) }

// Forget drops what is kept of zones that are gone.
func (p *Pusher) Forget(gone record.Gone) {
	p.state.forgetZones(func(id int64) bool { return !gone.Zones[id] })
}

// NameState is how one name of a remote zone stands at its primary.
type NameState struct {
	Name    names.Name
	Wanted  []names.Record
	Taken   bool      // the primary has what it should
	At      time.Time // when it took it last
	Problem diagnose.PushProblem
	Detail  string
	Tries   int
	NextTry time.Time
}

// States lists how each name of a remote zone stands at its primary, by name.
func (p *Pusher) States(z names.Zone) []NameState {
	wanted := p.zones.WantedAll(z)
	all := map[names.Name]bool{}
	for name := range wanted {
		all[name] = true
	}
	for _, n := range p.state.list(z.ID) {
		all[n.Name] = true
	}
	out := make([]NameState, 0, len(all))
	for name := range all {
		k := key{z.ID, name}
		n := p.state.of(k)
		one := NameState{Name: name, Wanted: wanted[name], At: n.GivenAt, Detail: n.Detail, Tries: n.Tries}
		if one.Taken = names.SameRecords(n.Given, wanted[name]); !one.Taken {
			one.Problem, one.NextTry = diagnose.PushProblem(n.Problem), p.state.nextTry(k)
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b NameState) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// PushAll pushes all names of a remote zone at once, those that its primary has already among them.
func (p *Pusher) PushAll(z names.Zone) {
	p.state.wake(z.ID)
	for _, n := range p.state.list(z.ID) {
		n.GivenAt, n.Tries, n.Problem, n.Detail = time.Time{}, 0, "", ""
		p.state.put(n)
	}
	p.Due(z, true)
}

// PrimaryTrouble reports that a remote zone's primary could not be asked.
type PrimaryTrouble struct {
	Zone            names.Name
	Primary, Detail string
}

func (e PrimaryTrouble) Error() string {
	return fmt.Sprintf("the primary %s of zone %s could not be asked: %s", e.Primary, e.Zone, e.Detail)
}

// Differences asks a remote zone's primary what it has and returns what a push would change. Nothing is pushed. Error: PrimaryTrouble.
func (p *Pusher) Differences(ctx context.Context, z names.Zone) ([]names.Difference, error) {
	primary, wanted := p.primary(z), p.zones.WantedAll(z)
	var there, want []names.Record
	given := map[names.Name][]names.Record{}
	for _, n := range p.state.list(z.ID) {
		given[n.Name] = n.Given
		if wanted[n.Name] == nil {
			wanted[n.Name] = nil // to be removed
		}
	}
	for name, records := range wanted {
		want = append(want, records...)
		types := names.OwnedTypes(given[name], records)
		if len(records) > 0 && !slices.Contains(types, "CNAME") {
			types = append(types, "CNAME") // it would stand in the way
		}
		list, err := primary.Records(ctx, name, types)
		if err != nil {
			return nil, PrimaryTrouble{Zone: z.Apex, Primary: z.Primary.String(), Detail: err.Error()}
		}
		there = append(there, list...)
	}
	return append([]names.Difference{}, names.Differences(there, want)...), nil
}
