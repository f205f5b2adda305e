package faults

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/engine/record"
)

// ReadWork reads the planned work that the database has. A database that hangs holds it up, and the reviews that wait for it, for
// writeLimit at most. Error: that of the database.
func (b *Board) ReadWork(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, writeLimit)
	defer cancel()
	list, err := b.store.PlannedWork(ctx)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.work = list
	return nil
}

// Work lists planned work, the earliest first.
func (b *Board) Work() []fault.Work {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.work
}

// Plan records planned work, of a site by its ID if it is not 0. Error: that of the database.
func (b *Board) Plan(ctx context.Context, siteID int64, w fault.Work) (fault.Work, error) {
	var err error
	if w.ID, err = b.store.PlanWork(ctx, siteID, w); err != nil {
		return w, err
	}
	return w, b.ReadWork(ctx)
}

// EndWork ends planned work. Errors: store.Missing, that of the database.
func (b *Board) EndWork(ctx context.Context, id int64) error {
	if err := b.store.EndWork(ctx, id); err != nil {
		return err
	}
	return b.ReadWork(ctx)
}

// PlaceOf returns where a fault is.
func (b *Board) PlaceOf(f Fault) fault.Place {
	if f.SiteID == 0 {
		return fault.Place{Providers: []string{fault.ProviderOf(f.Finding.Subject)}}
	}
	p, _ := b.record.Site(f.SiteID)
	return b.Place(p)
}

// Place returns a site as a place where faults are.
func (b *Board) Place(p record.Site) fault.Place {
	return fault.Place{Site: p.Code, Tags: p.Tags, Providers: b.providers(p.ID)}
}

// Planned returns the planned work that is under way where a fault is, and until when; false if none is.
func (b *Board) Planned(f Fault, now time.Time) (fault.Work, time.Time, bool) {
	return fault.Planned(b.Work(), b.PlaceOf(f), now)
}
