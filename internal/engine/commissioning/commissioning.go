// Package commissioning keeps the runs by which services come into use. It owns the open runs, and watches them: what is seen to be so is
// recorded. It never decides what a step needs (see core/commission), and never changes a site's record.
//
// No lock may be held when it is called.
package commissioning

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
	"inkpost.example/inkpost/internal/store"
)

const (
	// lookEvery is how often open runs are looked at, askEvery how often what a run waits for is asked for while somebody follows it, and
	// followedFor how long after it was read last that is so.
	lookEvery   = time.Second
	askEvery    = 5 * time.Second
	followedFor = 30 * time.Second
	// patience is how long after its last change a run is asked for that often, and askSeldom how often it is then.
	patience  = 15 * time.Minute
	askSeldom = time.Minute
	// lateBy is how long ago an answer may have been given that arrives now: a phone in a cellar keeps answers until it has a connection.
	lateBy = 24 * time.Hour
)

// Host is what the room asks of the engine.
type Host interface {
	// CommissioningFacts gathers what is known of the parts that a run is about; false where its site is gone.
	CommissioningFacts(ctx context.Context, run store.Commissioning) (commission.Facts, bool)
	// Ask has what a run waits for looked at now: services from outside, devices from inside, names elsewhere.
	Ask(siteID int64, services []int64)
}

// Room is the room. It is safe for concurrent use.
type Room struct {
	host   Host
	store  *store.Store
	record *record.Record
	events *events.Hub
	now    func() time.Time
	log    *slog.Logger

	mu    locks.Leaf
	open  map[int64]*run      // by site
	steps map[string][]string // that kits made here ask for, by kit
}

// run is an open run.
type run struct {
	store.Commissioning
	read  time.Time // when somebody last looked at it
	asked time.Time
}

// New returns a room with the runs that the database has open. Error: that of the database.
func New(ctx context.Context, host Host, st *store.Store, rec *record.Record, hub *events.Hub, now func() time.Time, log *slog.Logger) (
	*Room, error) {
	r := &Room{host: host, store: st, record: rec, events: hub, now: now, log: log, open: map[int64]*run{}}
	if err := r.ReadKits(ctx); err != nil {
		return r, err
	}
	return r, r.readOpen(ctx)
}

// ReadKits reads the kits that were made here. Error: that of the database.
func (r *Room) ReadKits(ctx context.Context) error {
	list, err := r.store.Kits(ctx)
	if err != nil {
		return fmt.Errorf("read kits: %w", err)
	}
	steps := map[string][]string{}
	for _, k := range append(site.Kits(), list...) {
		steps[k.Name] = k.Steps
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.steps = steps
	return nil
}

// KitSteps lists what a kit asks to be set up on a device.
func (r *Room) KitSteps(kit string) []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.steps[kit]
}

// readOpen reads the runs that are open. Error: that of the database.
func (r *Room) readOpen(ctx context.Context) error {
	list, err := r.store.Commissionings(ctx, 0)
	if err != nil {
		return fmt.Errorf("read commissionings: %w", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	before := r.open
	r.open = map[int64]*run{}
	for _, c := range list {
		one := &run{Commissioning: c}
		if was := before[c.SiteID]; was != nil {
			one.read, one.asked = was.read, was.asked
		}
		r.open[c.SiteID] = one
	}
	return nil
}

// Read reads the open runs and the kits again: another server may have changed them. Error: that of the database.
func (r *Room) Read(ctx context.Context) error { return errors.Join(r.readOpen(ctx), r.ReadKits(ctx)) }

// Run looks at open runs until ctx ends, and reads them again now and then: another server may have changed them.
func (r *Room) Run(ctx context.Context) {
	tick := rounds.Every(lookEvery)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-tick.C:
			tick.Begun()
		case <-ctx.Done():
			return
		}
		if n%20 == 0 {
			if err := r.Read(ctx); err != nil && ctx.Err() == nil {
				r.log.Warn("commissionings could not be read; retrying", "error", err)
			}
		}
		for _, one := range r.Open() {
			if err := r.look(ctx, one); err != nil && ctx.Err() == nil {
				r.log.Warn("what was seen of a commissioning could not be recorded; retrying", "error", err)
			}
		}
	}
}

// look records what is seen to be so of a run, and asks for what it waits for.
func (r *Room) look(ctx context.Context, c store.Commissioning) error {
	f, ok := r.host.CommissioningFacts(ctx, c)
	if !ok || !r.store.Leads() {
		return nil
	}
	entries, fresh := commission.Look(f, c.Results)
	var failed error
	for _, one := range fresh {
		if err := r.note(ctx, c, one); err != nil && !isTaken(err) {
			failed = err
		}
	}
	if _, due := commission.Due(entries); due && r.toAsk(c.SiteID) {
		r.host.Ask(c.SiteID, c.Services)
	}
	return failed
}

func isTaken(err error) bool {
	var taken store.Taken
	return errors.As(err, &taken)
}

// toAsk reports whether what a run waits for is to be asked for now: somebody follows it, and it was not asked for a moment ago. A page
// that is left open over night does not wear the site's router down: where nothing has changed for a while, it is asked as seldom as ever.
func (r *Room) toAsk(siteID int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	one, now := r.open[siteID], r.now()
	if one == nil || now.Sub(one.read) > followedFor {
		return false
	}
	changed, every := one.Began, askEvery
	for _, x := range one.Results {
		if x.At.After(changed) {
			changed = x.At
		}
	}
	if now.Sub(changed) > patience {
		every = askSeldom
	}
	if now.Sub(one.asked) < every {
		return false
	}
	one.asked = now
	return true
}

// note records a result, in the database first.
func (r *Room) note(ctx context.Context, c store.Commissioning, one commission.Result) error {
	if err := r.store.NoteResult(ctx, c.ID, one); err != nil {
		return errors.Join(err, r.readOpen(ctx))
	}
	r.mu.Lock()
	if at := r.open[c.SiteID]; at != nil && at.ID == c.ID {
		at.Results = append(slices.Clone(at.Results), one)
	}
	r.mu.Unlock()
	r.tell(c.SiteID, one.Words)
	return nil
}

func (r *Room) tell(siteID int64, words string) {
	if p, ok := r.record.Site(siteID); ok {
		r.events.Publish(events.Commissioning, p.Code, "", words)
	}
}

// Open lists the open runs, by when they began.
func (r *Room) Open() (out []store.Commissioning) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, one := range r.open {
		out = append(out, one.Commissioning)
	}
	slices.SortFunc(out, func(a, b store.Commissioning) int { return a.Began.Compare(b.Began) })
	return out
}

// Of returns the open run of a site, or else the newest one, and notes that somebody follows it; false where none was ever begun. Error:
// that of the database.
func (r *Room) Of(ctx context.Context, siteID int64) (store.Commissioning, bool, error) {
	r.mu.Lock()
	if one := r.open[siteID]; one != nil {
		one.read = r.now()
		defer r.mu.Unlock()
		return one.Commissioning, true, nil
	}
	r.mu.Unlock()
	list, err := r.store.Commissionings(ctx, siteID)
	if err != nil || len(list) == 0 {
		return store.Commissioning{}, false, err
	}
	return list[0], true, nil
}

// Begin begins a run for services of a site, or adds them to the one that is open. Errors: store.Missing, that of the database.
func (r *Room) Begin(ctx context.Context, p record.Site, services []int64, by string) error {
	if _, err := r.store.BeginCommissioning(ctx, p.ID, services, by, r.now()); err != nil {
		return err
	}
	if err := r.readOpen(ctx); err != nil {
		return err
	}
	r.tell(p.ID, by+" commissions "+p.Code)
	return nil
}

// Answer is what a person says of a step.
type Answer struct {
	Step    commission.Step
	Subject string           // as the run names it
	State   commission.State // done or skipped; waiting makes it due again
	Words   string
	By      string
	At      time.Time // when it was said; zero for now
}

// Answer takes what a person says of a step of the open run of a site. What that says of the record is put there by before, before it is
// noted and told. What is over already stays so: saying it twice is no error. Errors: that of before, site.Flaws, store.Missing where no
// run is open, that of the database.
func (r *Room) Answer(ctx context.Context, siteID int64, a Answer, before func() error) error {
	r.mu.Lock()
	one := r.open[siteID]
	var c store.Commissioning
	if one != nil {
		c = one.Commissioning
	}
	r.mu.Unlock()
	p, ok := r.record.Site(siteID)
	if one == nil || !ok {
		return store.Missing{Kind: "open commissioning of site", Name: p.Code}
	}
	f, _ := r.host.CommissioningFacts(ctx, c)
	entries, _ := commission.Look(f, c.Results)
	e, ok := commission.Find(entries, a.Step, a.Subject)
	if !ok {
		return store.Missing{Kind: "step of " + p.Code, Name: strings.TrimSpace(string(a.Step) + " " + a.Subject)}
	}
	now := r.now()
	if a.At.IsZero() || a.At.After(now) {
		a.At = now
	}
	a.Words = strings.TrimSpace(a.Words)
	var flaws site.Flaws
	if now.Sub(a.At) > lateBy {
		flaws.Note("at", fmt.Errorf("it was said more than %d hours ago; say it again", int(lateBy.Hours())))
	}
	if len(a.Words) > 500 {
		flaws.Note("words", errors.New("has more than 500 characters"))
	}
	switch a.State {
	case commission.Done:
		if !e.ByWord {
			flaws.Note("state", fmt.Errorf("%q is seen, not said: it is done when it is so; it can be skipped", e.Title))
		}
		a.Words = cmp.Or(a.Words, "said to be so")
	case commission.Skipped:
		if a.Words == "" && !e.Optional {
			flaws.Note("words", errors.New("say why it is passed over"))
		}
		a.Words = cmp.Or(a.Words, "left out")
	case commission.Waiting:
	default:
		flaws.Note("state", fmt.Errorf("%q is unknown; it is done, skipped or waiting", a.State))
	}
	if err := flaws.Err(); err != nil {
		return err
	}
	if a.State == commission.Waiting {
		return r.again(ctx, c, e, a.By)
	}
	if err := before(); err != nil {
		return err
	}
	err := r.note(ctx, c, commission.Result{Step: a.Step, Of: e.Of, State: a.State, At: a.At, By: a.By, Words: a.Words})
	if isTaken(err) {
		return nil
	}
	return err
}

// again makes a step due again.
func (r *Room) again(ctx context.Context, c store.Commissioning, e commission.Entry, by string) error {
	if err := r.store.ForgetResult(ctx, c.ID, e.Step, e.Of); err != nil {
		return err
	}
	if err := r.readOpen(ctx); err != nil {
		return err
	}
	r.tell(c.SiteID, fmt.Sprintf("%s wants it again: %s", by, e.Title))
	return nil
}

// Proven records that the agent has proven the way in to a service before its device is there. Error: that of the database.
func (r *Room) Proven(ctx context.Context, siteID, serviceID int64, words, by string) error {
	r.mu.Lock()
	one := r.open[siteID]
	r.mu.Unlock()
	if one == nil {
		return store.Missing{Kind: "open commissioning", Name: "of this site"}
	}
	err := r.note(ctx, one.Commissioning, commission.Result{Step: commission.Forward, Of: serviceID, State: commission.Done, At: r.now(),
		By: by, Words: words})
	if isTaken(err) {
		return nil
	}
	return err
}

// End ends the open run of a site. Errors: store.Missing where none is open, that of the database.
func (r *Room) End(ctx context.Context, p record.Site, by string) error {
	r.mu.Lock()
	one := r.open[p.ID]
	r.mu.Unlock()
	if one == nil {
		return store.Missing{Kind: "open commissioning of site", Name: p.Code}
	}
	if err := r.store.EndCommissioning(ctx, one.ID, by, r.now()); err != nil {
		return err
	}
	r.mu.Lock()
	delete(r.open, p.ID)
	r.mu.Unlock()
	r.tell(p.ID, by+" ended the commissioning of "+p.Code)
	return nil
}

// Forget drops the runs of sites that are gone.
func (r *Room) Forget(gone record.Gone) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id := range gone.Sites {
		delete(r.open, id)
	}
}
