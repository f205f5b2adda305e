package engine

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Reload reads the whole record again and makes everything follow it: for when another program wrote to the database. Errors: ErrBusy, that
// of the database.
func (e *Engine) Reload(ctx context.Context) error {
	if err := e.rooms.History.Resume(ctx); err != nil {
		return err
	}
	if err := e.rooms.Moves.ReadPatterns(ctx); err != nil {
		return err
	}
	states, err := e.rooms.Store.ServiceStates(ctx)
	if err != nil {
		return err
	}
	defer e.rooms.Prober.SetStates(states)
	return e.Change(ctx, func() (changes.Edit, error) {
		e.ForgetMoveIDs() // later moves must have higher IDs than those that another program recorded
		return changes.Edit{Words: "the record was read again", Touched: &record.Touched{Whole: true},
			Write: func(context.Context, *store.Store) error { return nil }}, nil
	})
}

// Zone finds a zone by its apex. Error: store.Missing.
func (e *Engine) Zone(apex string) (names.Zone, error) { return e.rooms.Zone(apex) }

// SiteSeen finds a site by its code, where whoever asks sees it. Error: store.Missing.
func (e *Engine) SiteSeen(ctx context.Context, code string) (record.Site, error) {
	return e.rooms.SiteSeen(ctx, code)
}

// HostnamesOf returns the hostnames that follow a link.
func (e *Engine) HostnamesOf(linkID int64) map[string]bool { return e.rooms.HostnamesOf(linkID) }

// Unwritten returns when each fault was first seen that the database does not have.
func (e *Engine) Unwritten() map[faults.Of]time.Time { return e.rooms.Faults.Unwritten() }

// ReviewNow reviews a site at once instead of soon. Errors: store.Missing, that of the database.
func (e *Engine) ReviewNow(ctx context.Context, code string) error {
	p, err := e.rooms.FindSite(code)
	if err != nil {
		return err
	}
	return e.rooms.Faults.ReviewNow(ctx, p.ID)
}

// KeyOnRecord finds a key, and the code of the site whose link it announces for.
func (e *Engine) KeyOnRecord(id int64) (k store.Key, code string, known bool) {
	k, known = e.rooms.Record.KeyByID(id)
	p, _, _ := e.rooms.Record.SiteOfLink(int64(k.LinkID))
	return k, p.Code, known
}
