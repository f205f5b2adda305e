// Package faults opens and closes the faults of sites. It owns the board of what is open, the diagnosis of each site, made once a change of
// its evidence, and what of both the database does not have yet. It never gathers evidence (see package rooms) and never decides what it
// means (see core/diagnose).
//
// The edit lock may be held when it is called. While it holds its own lock it calls nobody.
package faults

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

const (
	// seenFor is how long a fault that an engine before this one saw keeps the time at which it did.
	seenFor = time.Hour
	// writeLimit is how long the review of a site waits for the database.
	writeLimit = 2 * time.Second
)

// Host is what the room asks of the engine.
type Host interface {
	// Evidence gathers what is known of a site now.
	Evidence(p record.Site, now time.Time) diagnose.Evidence
	// Blind lists the vantage points whose results do not count, and why.
	Blind(now time.Time) []fault.Blind
	// ProbeSoon has services of a site probed soon.
	ProbeSoon(p record.Site, services []string)
	// Unrenewed says why the console's certificate could not be renewed for several tries; "" if nothing is wrong.
	Unrenewed() string
}

// Of is a fault of a site, by its key.
type Of struct {
	SiteID int64
	Key    string
}

// Fault is a fault that is open, or was closed so lately that it may come back. Its ID is 0 until it is in the database: a fault is open
// from when it was seen, and is written when that can be done.
type Fault struct {
	store.Fault
	nr      uint64             // its own in this memory, also while its ID is 0
	written string             // what of it the database has
	pending []store.FaultEvent // what its timeline there lacks
}

func (f Fault) open() bool { return f.Closed.IsZero() }

// Diagnosis is what was found out about a site when its evidence last changed. It is not changed in place.
type Diagnosis struct {
	Paths []diagnose.Path
}

// Board is the room. It is safe for concurrent use.
type Board struct {
	host   Host
	store  *store.Store
	record *record.Record
	events *events.Hub
	seen   map[Of]time.Time
	now    func() time.Time
	log    *slog.Logger
	// follows says that another server writes: what is wrong is for that one to say.
	follows bool

	mu         locks.Leaf
	faults     map[int64][]Fault   // by site ID; under 0 those of areas
	numbers    uint64              // given to faults so far
	work       []fault.Work        // planned
	diagnoses  map[int64]Diagnosis // of sites that are not well
	dirty      map[int64]bool      // sites to be reviewed
	stale      map[int64]bool      // sites whose evidence changed since their diagnosis
	well       map[int64]bool      // sites where all was well at their diagnosis
	proposals  map[int64]map[string]fault.Proposal
	neighbours neighbours
	// reviewing is held during a review, so that what two of them find does not mix.
	reviewing locks.Review
}

// New returns a board without faults. seen holds when faults were first seen that are not in the database, by an engine before this one.
func New(host Host, st *store.Store, rec *record.Record, hub *events.Hub, seen map[Of]time.Time, now func() time.Time,
	log *slog.Logger) *Board {
	return &Board{host: host, store: st, record: rec, events: hub, seen: seen, now: now, log: log,
		follows: st != nil && !st.Leads(), faults: map[int64][]Fault{},
		diagnoses: map[int64]Diagnosis{}, dirty: map[int64]bool{}, stale: map[int64]bool{}, well: map[int64]bool{},
		proposals: map[int64]map[string]fault.Proposal{}}
}

// Resume makes the faults that the database has open those that the board shows. Error: that of the database.
func (b *Board) Resume(ctx context.Context) error {
	list, err := b.store.Faults(ctx, store.FaultFilter{Since: b.now().Add(-fault.ReopenWithin), Limit: 1 << 20})
	if err == nil {
		err = b.ReadWork(ctx)
	}
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	clear(b.faults)
	for _, f := range list {
		b.numbers++
		b.faults[f.SiteID] = append(b.faults[f.SiteID], Fault{Fault: f, nr: b.numbers, written: told(f)})
	}
	return nil
}

// Unwritten returns when each fault was first seen that the database does not have.
func (b *Board) Unwritten() map[Of]time.Time {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := map[Of]time.Time{}
	for id, list := range b.faults {
		for _, f := range list {
			if f.ID == 0 && f.open() {
				out[Of{id, f.Finding.Key()}] = f.Opened
			}
		}
	}
	return out
}

// Recent lists what is open, and what was closed so lately that it may come back.
func (b *Board) Recent() (out []Fault) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, list := range b.faults {
		out = append(out, list...)
	}
	return out
}

// Open lists what is open, at one site or at all when siteID is 0, those of areas with them, the newest first.
func (b *Board) Open(siteID int64) []Fault {
	b.mu.Lock()
	var out []Fault
	add := func(list []Fault) {
		for _, f := range list {
			if f.open() {
				out = append(out, f)
			}
		}
	}
	if siteID != 0 {
		add(b.faults[siteID])
	} else {
		for _, list := range b.faults {
			add(list)
		}
	}
	b.mu.Unlock()
	slices.SortFunc(out, func(x, y Fault) int {
		return cmp.Or(y.Opened.Compare(x.Opened), cmp.Compare(y.ID, x.ID), cmp.Compare(x.SiteID, y.SiteID),
			cmp.Compare(x.Finding.Key(), y.Finding.Key()))
	})
	return out
}

// Diagnosis returns the diagnosis of a site: the one that is kept, unless the evidence has changed since, or all was well.
func (b *Board) Diagnosis(p record.Site) Diagnosis {
	b.mu.Lock()
	d, ok := b.diagnoses[p.ID]
	ok = ok && !b.stale[p.ID]
	b.mu.Unlock()
	if ok {
		return d
	}
	return b.diagnose(p, true)
}

// Review notes that the evidence of a site changed: its diagnosis is made anew soon, or when somebody reads it.
func (b *Board) Review(siteID int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.dirty[siteID], b.stale[siteID] = true, true
}

// Forget drops what is kept of sites that are gone.
func (b *Board) Forget(gone record.Gone) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for id := range gone.Sites {
		delete(b.faults, id)
		delete(b.diagnoses, id)
		delete(b.dirty, id)
		delete(b.stale, id)
		delete(b.well, id)
		delete(b.proposals, id)
	}
}

// told is the part of a fault whose change is worth a write: times in its evidence change constantly.
func told(f store.Fault) string {
	return fmt.Sprintln(f.Finding.Summary, f.Finding.Next, f.Finding.Sure, f.Closed.UnixMicro(), f.Under, f.Returns)
}
