package engine

import (
	"context"
	"errors"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// turn is somebody's turn to edit the record: nothing else changes it until done.
type turn struct {
	moves moves.Hold
	done  func()
}

// editing waits until every announcement so far is recorded, published and settled, and keeps further ones waiting until the
// edit is done. It waits no longer than ctx. Errors: those of Writable and Moves.Settle, ErrBusy.
func (e *Engine) editing(ctx context.Context) (t turn, err error) {
	if err := e.Writable(); err != nil {
		return t, err
	}
	if err := e.edit.Acquire(ctx, 1); err != nil {
		return t, ErrBusy
	}
	e.publishing.Lock()
	t.moves = e.moves.Hold()
	t.done = func() { t.moves.Release(); e.publishing.Unlock(); e.edit.Release(1) }
	if err := t.moves.Settle(ctx); err != nil {
		t.done()
		return t, err
	}
	return t, nil
}

// ErrBusy reports an edit that waited for others in vain: nothing was changed.
var ErrBusy = errors.New("other edits take too long, or the database is slow; nothing was changed, try again shortly")

// noteAnswers notes which hostnames answer otherwise than before: for those, caches have to run out first.
func (e *Engine) noteAnswers(d record.Diff) {
	now := e.now()
	for _, c := range d.Sites {
		before := make(map[int64]wan.Pair, len(c.Before.Hostnames))
		for _, h := range c.Before.Hostnames {
			before[h.ID] = c.Before.AnswerOf(h)
		}
		for _, h := range c.After.Hostnames {
			if was, there := before[h.ID]; !there || was != c.After.AnswerOf(h) {
				e.verify.Published(h.ID, now)
			}
		}
	}
}

// flawed gathers the flaws that several checks found; an error that is no flaw comes first.
func flawed(errs ...error) error {
	var all site.Flaws
	for _, err := range errs {
		var f site.Flaws
		switch {
		case err == nil:
		case errors.As(err, &f):
			all = append(all, f...)
		default:
			return err
		}
	}
	return all.Err()
}

// Merge changes what a person would enter of a resource into what they ask for.
type Merge[T any] func(*T) error

func siteInput(s site.Site) contract.SiteInput {
	return contract.SiteInput{Code: s.Code, Name: s.Name, Note: s.Note}
}

func siteResource(s site.Site) resource {
	return resource{"site", s.Code, s.ID, s.Revision, s.Tag()}
}

// AddSite records a site. Errors of all edits: site.Flaws, Stale, store.Missing, store.Taken, store.InUse, ErrBusy, ErrCommitted.
func (e *Engine) AddSite(ctx context.Context, in contract.SiteInput) (contract.Site, error) {
	s, err := site.Site{Code: in.Code, Name: in.Name, Note: in.Note}.Checked()
	if err != nil {
		return contract.Site{}, err
	}
	if err := e.change(ctx, func() (edit, error) {
		return edit{site: s.Code, words: "site " + s.Code + " added", touched: &record.Touched{SiteCode: s.Code}, write: func(ctx context.Context, tx *store.Store) error {
			_, err := tx.AddSite(ctx, s)
			return err
		}}, nil
	}); err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, s.Code)
}

// EditSite changes a site.
func (e *Engine) EditSite(ctx context.Context, code string, merge Merge[contract.SiteInput]) (contract.Site, error) {
	var s site.Site
	err := e.change(ctx, func() (edit, error) {
		p, err := e.premises(code)
		if err != nil {
			return edit{}, err
		}
		of, before := siteResource(p.Site), siteInput(p.Site)
		in, err := merged(ctx, e, of, before, merge)
		if err != nil {
			return edit{}, err
		}
		if s, err = (site.Site{ID: p.ID, Code: in.Code, Name: in.Name, Note: in.Note}).Checked(); err != nil {
			return edit{}, err
		}
		return edit{site: s.Code, words: "site " + s.Code + " edited", touched: &record.Touched{Sites: []int64{p.ID}}, of: of, before: before, after: siteInput(s),
			write: func(ctx context.Context, tx *store.Store) error { return tx.EditSite(ctx, s) }}, nil
	})
	if err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, s.Code)
}

// merged gives what a person asks for of a resource: what is there now, with their fields over it. An edit of an older revision is
// refused before anything of it is looked at.
func merged[T any](ctx context.Context, e *Engine, of resource, now T, merge Merge[T]) (T, error) {
	if err := e.unchanged(ctx, of); err != nil {
		return now, err
	}
	err := merge(&now)
	return now, err
}

// RemoveSite removes a site with everything on its record.
func (e *Engine) RemoveSite(ctx context.Context, code string) error {
	return e.change(ctx, func() (edit, error) {
		p, err := e.premises(code)
		return edit{site: p.Code, words: "site " + p.Code + " removed", of: siteResource(p.Site),
			write: func(ctx context.Context, tx *store.Store) error { _, err := tx.RemoveSite(ctx, p.Site); return err }}, err
	})
}

func deviceInput(d site.Device) contract.DeviceInput {
	return contract.DeviceInput{Name: d.Name, MAC: d.MAC, Address: addressText(d.Address), Reserved: d.Reserved, Router: d.Router}
}

func deviceResource(d site.Device) resource {
	return resource{"device", d.Name, d.ID, d.Revision, d.Tag()}
}

// AddDevice records a device of a site.
func (e *Engine) AddDevice(ctx context.Context, code string, in contract.DeviceInput) (site.Device, error) {
	var d site.Device
	err := e.change(ctx, func() (edit, error) {
		p, err := e.premises(code)
		if err != nil {
			return edit{}, err
		}
		if d, err = e.readDevice(site.Device{SiteID: p.ID}, in); err != nil {
			return edit{}, err
		}
		return edit{site: p.Code, words: "device " + d.Name + " added",
			write: func(ctx context.Context, tx *store.Store) error { _, err := tx.AddDevice(ctx, d); return err }}, nil
	})
	if err != nil {
		return d, err
	}
	return e.Device(code, d.Name)
}

// EditDevice changes a device of a site.
func (e *Engine) EditDevice(ctx context.Context, code, name string, merge Merge[contract.DeviceInput]) (site.Device, error) {
	var d site.Device
	err := e.change(ctx, func() (edit, error) {
		p, now, err := e.device(code, name)
		if err != nil {
			return edit{}, err
		}
		in, err := merged(ctx, e, deviceResource(now), deviceInput(now), merge)
		if err != nil {
			return edit{}, err
		}
		if d, err = e.readDevice(now, in); err != nil {
			return edit{}, err
		}
		return edit{site: p.Code, words: "device " + d.Name + " edited", of: deviceResource(now), before: deviceInput(now), after: deviceInput(d),
			write: func(ctx context.Context, tx *store.Store) error { return tx.EditDevice(ctx, d) }}, nil
	})
	if err != nil {
		return d, err
	}
	return e.Device(code, d.Name)
}

// readDevice reads what a person entered of a device.
func (e *Engine) readDevice(d site.Device, in contract.DeviceInput) (site.Device, error) {
	address, err := parseAddress("lan_address", in.Address)
	if err != nil {
		return d, err
	}
	d.Name, d.MAC, d.Address, d.Reserved, d.Router = in.Name, in.MAC, address, in.Reserved, in.Router
	return d.Checked(e.config.Policy)
}

// RemoveDevice removes a device that no service is on.
func (e *Engine) RemoveDevice(ctx context.Context, code, name string) error {
	return e.change(ctx, func() (edit, error) {
		p, d, err := e.device(code, name)
		return edit{site: p.Code, words: "device " + d.Name + " removed", of: deviceResource(d),
			write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveDevice(ctx, d) }}, err
	})
}

// Devices lists the devices of a site.
func (e *Engine) Devices(code string) ([]site.Device, error) {
	p, err := e.premises(code)
	return append([]site.Device{}, p.Devices...), err
}

// Device gives one device.
func (e *Engine) Device(code, name string) (site.Device, error) {
	_, d, err := e.device(code, name)
	return d, err
}

func (e *Engine) device(code, name string) (record.Site, site.Device, error) {
	p, err := e.premises(code)
	if err != nil {
		return p, site.Device{}, err
	}
	if i := slices.IndexFunc(p.Devices, func(d site.Device) bool { return d.Name == name }); i >= 0 {
		return p, p.Devices[i], nil
	}
	return p, site.Device{}, store.Missing{Kind: "device of " + p.Code, Name: name}
}

// Reload reads the record anew and lets everything follow: for when the database was written by somebody else.
func (e *Engine) Reload(ctx context.Context) error {
	if err := e.history.Resume(ctx); err != nil {
		return err
	}
	if err := e.moves.ReadPatterns(ctx); err != nil {
		return err
	}
	return e.change(ctx, func() (edit, error) {
		e.moveIDs = nil // moves to come are to stand behind those that somebody else recorded
		return edit{words: "the record was read again", touched: &record.Touched{Whole: true}, write: func(context.Context, *store.Store) error { return nil }}, nil
	})
}
