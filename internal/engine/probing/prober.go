// Package probing probes every service at its pace from this server, and judges services by what all vantage points see. It owns the
// watches and their queue, the states of services, the quarantine of links whose address somebody else seems to have, and which vantage
// points do not count for now. It never opens a fault and never changes the record.
//
// Any lock of the engine may be held when it is called, except that of Host's own rooms where Host says so: while it holds its lock it
// calls the record and nobody else but the three questions of Host that say so.
package probing

import (
	"context"
	"log/slog"
	"net/netip"
	"runtime"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/probing/counts"
	"inkpost.example/inkpost/internal/engine/probing/ports"
	"inkpost.example/inkpost/internal/engine/probing/quarantine"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/probing/workers"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/connect"
	"inkpost.example/inkpost/internal/wire/distance"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Host is what the room asks of the engine. Its methods may be called from many goroutines, never while the room holds its lock, except
// for those that say so.
type Host interface {
	// LastHeard returns when a link was last heard from, AnnouncesEvery how often it is, and Tenancy whether it still has its address.
	// They may be called under the room's lock.
	LastHeard(l site.Link) time.Time
	AnnouncesEvery(l site.Link) time.Duration
	Tenancy(l site.Link) probe.Tenancy
	// Review looks for faults of a site soon, ScanDevices makes an agent there look at its devices, and CheckAddress makes the agent of a
	// link check its address.
	Review(siteID int64)
	ScanDevices(siteID int64)
	CheckAddress(linkID int64)
	// TryWayIn has the router asked, where the link allows it, whether what is sent to a failing service gets as far as that.
	TryWayIn(s site.Service, l site.Link)
	// Confirmed notes that a service is as expected at a link's address.
	Confirmed(linkID, serviceID int64, at time.Time)
	// PinFirst pins the fingerprint that a service showed when it answered for the first time. It counts only for that revision of the
	// service, and must not block.
	PinFirst(s site.Service, fingerprint string)
	// PinRenewed pins the key of a certificate that was renewed, in the place of the one before.
	PinRenewed(s site.Service, fingerprint string)
	// ConfirmElsewhere makes other vantage points than seenBy probe a service at once, and AssignmentsChanged makes the assignments of a
	// site anew.
	ConfirmElsewhere(serviceID, seenBy int64)
	AssignmentsChanged(siteID int64)
	// Ailing lists the vantage points that say that something is wrong with them, and VantageName names one.
	Ailing() map[int64]string
	VantageName(id int64) string
	// Lend has another server on the database make a round, where the site is in its shard, and is nil where it is not.
	Lend(s site.Service, at netip.Addr, byName bool) Awaited
}

// Config of the room. All fields are required, except where they say what a zero value means.
type Config struct {
	Vantage    int64         // ID of this server's own vantage point
	Attempts   int           // how many attempts may be under way at once; 0 takes the smallest sensible number
	Deadline   time.Duration // how long a probe waits for an answer
	CheckEvery time.Duration // how often agents check their address
	NameServer string        // "host:port" of our own DNS server; "" goes by no name
	Resolvers  []string      // "host:port" of resolvers elsewhere; the first one is asked instead of NameServer
	Now        func() time.Time
	Ticks      func() time.Time // the clock of schedules, which never steps
	// Speak makes the attempts of a round; nil makes them over the network, and measures there how far packets get. A simulated world has
	// its own, and no distances.
	Speak func(ctx context.Context, s speak.Service) speak.Round
	Log   *slog.Logger
}

// Prober is the room. It is safe for concurrent use.
type Prober struct {
	Config
	host    Host
	record  *record.Record
	history *history.History
	events  *events.Hub

	mu       locks.Probing
	watches  map[int64]*watch
	queue    pace.Queue[*watch]
	busy     map[netip.Addr]int // attempts under way, by target
	burst    pace.Burst
	surveyed time.Time        // when all services were last looked at for that
	unfit    map[int64]string // vantage points whose results do not count at present, and why
	ports    ports.Seen       // of providers, that are silent somewhere
	lossy    bool             // probes of ours get lost at most links
	wake     chan struct{}
	looks    time.Time // when the queue is looked at next, unless somebody rouses it
	slots    *semaphore.Weighted

	quarantine quarantine.List
	counts     counts.Counter
	meter      *distance.Meter
	measuring  atomic.Pointer[context.Context] // that measurements begin with: that of Run
}

// New returns a room that watches every service on record, each in the state that the database has. Error: that of the database.
func New(ctx context.Context, host Host, st *store.Store, rec *record.Record, hist *history.History, hub *events.Hub,
	c Config) (*Prober, error) {
	if c.Attempts == 0 {
		c.Attempts = pace.MaxAtOnce(0)
	}
	c.Ticks = unstepped(c.Ticks)
	p := &Prober{Config: c, host: host, record: rec, history: hist, events: hub, watches: map[int64]*watch{}, wake: make(chan struct{}, 1),
		slots: semaphore.NewWeighted(int64(c.Attempts)), busy: map[netip.Addr]int{}, unfit: map[int64]string{},
		meter: distance.NewMeter(netip.Addr{})}
	spans, err := st.NewestSpans(ctx)
	if err != nil {
		return nil, err
	}
	states, err := st.ServiceStates(ctx)
	if err != nil {
		return nil, err
	}
	var all record.Diff
	for _, where := range rec.Sites() {
		all.Sites = append(all.Sites, record.SiteChange{After: where})
	}
	p.apply(all, true)
	p.SetStates(states)
	for _, s := range spans {
		w := p.watches[s.ServiceID]
		if w == nil {
			continue
		}
		hist.Begin(s)
		v := seen.Result{Vantage: s.VantageID, Known: s.Outcome.Open(),
			View: probe.View{Outcome: s.Outcome, InRow: int(s.Count), Since: s.From, At: s.Until}}
		w.SetResults(append(w.Results(nil), v))
		if s.VantageID == c.Vantage {
			st := w.Status()
			st.View, st.Probed = v.View, s.Until
			w.SetStatus(st)
		}
	}
	return p, nil
}

func (p *Prober) rouse() {
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

func interval(s site.Service) time.Duration { return time.Duration(s.Interval) * time.Second }

// weight is how many attempts a round of a service has under way at most.
func weight(s site.Service) int64 {
	return int64(min((s.ExternalTo-s.ExternalFrom+1)*len(s.Transport.Each()), pace.MaxAtTarget))
}

// Run probes services as they come due and finds the vantage points that are themselves at fault, until ctx ends.
func (p *Prober) Run(ctx context.Context) {
	var g errgroup.Group
	if p.Speak == nil {
		p.measuring.Store(&ctx)
	}
	defer p.meter.Close()
	g.Go(func() error { p.runQueue(ctx); return nil })
	g.Go(func() error { p.runFitness(ctx); return nil })
	_ = g.Wait()
}

// atOnce is how many rounds are taken out of the queue together.
const atOnce = 16

// runQueue starts probes as they come due.
func (p *Prober) runQueue(ctx context.Context) {
	crew := workers.New()
	defer crew.End()
	poller := p.poller(crew)
	if poller != nil {
		defer poller.Close()
	}
	timer := time.NewTimer(0)
	defer timer.Stop()
	var list [atOnce]*round
	for ctx.Err() == nil {
		due, wait := p.next(list[:0], poller)
		if len(due) == 0 {
			timer.Reset(wait)
			select {
			case <-timer.C:
			case <-p.wake:
			case <-ctx.Done():
			}
			continue
		}
		var bare []*round
		for _, r := range due {
			p.begin(r)
			if r.await == nil && !p.slots.TryAcquire(r.n) {
				startAll(ctx, crew, bare)
				bare = nil
				if p.slots.Acquire(ctx, r.n) != nil {
					return
				}
			}
			if r.bare() {
				bare = append(bare, r)
			} else {
				crew.Do(func() { p.probe(ctx, r) })
			}
		}
		startAll(ctx, crew, bare)
		runtime.Gosched() // they begin before further ones do, not behind thousands
	}
}

// poller returns what makes bare rounds; nil where they are made like others: in a simulated world, or when the system has no room for it.
func (p *Prober) poller(crew *workers.Crew) *connect.Poller {
	if p.Speak != nil {
		return nil
	}
	poller, err := connect.NewPoller(p.Deadline, crew.Do)
	if err != nil {
		p.Log.Warn("bare connections are made one by one", "error", err)
		return nil
	}
	return poller
}

// gather is the least pause between two looks at the queue, unless something is in a hurry: what comes due in it begins together. To wake
// up for each of many probes takes processor time, too.
const gather = 10 * time.Millisecond

// targetWait is how long a round waits where enough others are under way at its target.
const targetWait = 100 * time.Millisecond

// next adds to a list the watches that are due and whose targets have room, as many as it has room for; if there are none, it returns how
// long to wait.
func (p *Prober) next(list []*round, poller *connect.Poller) (due []*round, wait time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.Ticks()
	for p.queue.Len() > 0 && len(list) < cap(list) {
		w := p.queue.Peek()
		if wait := w.DueAt().Sub(now); wait > 0 {
			return list, p.rest(now, max(wait, gather))
		}
		r := &round{prober: p, poller: poller, w: w, n: weight(*w.service), service: w.service}
		if where, ok := p.record.Site(w.service.SiteID); ok {
			l, _ := where.Followed(w.service.LinkID)
			r.at = where.TargetOf(*w.service, l)
			r.byName = !now.Before(w.nameDue.Time()) && where.HostnameOn(l) != ""
		}
		if r.at.IsValid() && p.busy[r.at] > 0 && p.busy[r.at]+int(r.n) > pace.MaxAtTarget {
			w.due = seen.At(now.Add(targetWait))
			p.queue.Fix(0)
			continue
		}
		p.counts.Late(now.Sub(w.DueAt()))
		p.queue.Pop()
		if r.at.IsValid() {
			p.busy[r.at] += int(r.n)
		}
		w.cancel = r.cancel
		list = append(list, r)
	}
	return list, p.rest(now, time.Minute)
}

// rest notes until when the queue is left alone. The caller holds p.mu.
func (p *Prober) rest(now time.Time, wait time.Duration) time.Duration {
	p.looks = now.Add(wait)
	return wait
}
