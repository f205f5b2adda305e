package engine

import (
	"context"
	"errors"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// editing waits until every announcement so far is recorded, published and settled, and keeps further ones waiting until the
// edit is done.
func (e *Engine) editing(ctx context.Context) (done func(), err error) {
	e.edit.Lock()
	e.publishing.Lock()
	e.unsettled.writing.Lock()
	done = func() { e.unsettled.writing.Unlock(); e.publishing.Unlock(); e.edit.Unlock() }
	if err := e.settleAlone(ctx); err != nil {
		done()
		return nil, err
	}
	return done, nil
}

// change carries one edit of the record out: f writes it to the database, then memory, zones and prober follow.
func (e *Engine) change(ctx context.Context, code, words string, f func() error) error {
	done, err := e.editing(ctx)
	if err != nil {
		return err
	}
	defer done()
	before := e.answersNow()
	if err := f(); err != nil {
		return err
	}
	// What is written must reach memory, even if the client has gone away meanwhile.
	ctx = context.WithoutCancel(ctx)
	if err := e.reload(ctx); err != nil {
		return err
	}
	e.remote.forgetZones(func(id int64) bool { return e.record.zone(id).ID != 0 })
	if err := e.publishAll(); err != nil {
		return err
	}
	e.noteAnswers(before)
	e.prober.sync(false)
	e.posts.touch(0)
	e.yard.rouseAll()
	e.Events.Publish(contract.EventRecordEdited, code, "", words)
	if p, ok := e.record.byCode(code); ok {
		e.faults.review(p.ID)
		e.askAgain(p.ID)
	}
	return nil
}

// answersNow gives what each hostname answers.
func (e *Engine) answersNow() map[int64]wan.Pair {
	out := map[int64]wan.Pair{}
	for _, p := range e.record.all() {
		for _, h := range p.hostnames {
			out[h.ID] = p.answerOf(h)
		}
	}
	return out
}

// noteAnswers notes which hostnames answer otherwise than before: for those, caches have to run out first.
func (e *Engine) noteAnswers(before map[int64]wan.Pair) {
	now := e.now()
	for id, pair := range e.answersNow() {
		if was, there := before[id]; !there || was != pair {
			e.names.publish(id, now)
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

// SiteInput gives a site as a person would enter it, to edit.
func (e *Engine) SiteInput(code string) (contract.SiteInput, error) {
	p, err := e.premises(code)
	return contract.SiteInput{Code: p.Code, Name: p.Name, Note: p.Note}, err
}

// AddSite records a site. Errors of all edits: site.Flaws, store.Missing, store.Taken, store.InUse.
func (e *Engine) AddSite(ctx context.Context, in contract.SiteInput) (contract.Site, error) {
	s, err := site.Site{Code: in.Code, Name: in.Name, Note: in.Note}.Checked()
	if err != nil {
		return contract.Site{}, err
	}
	if err := e.change(ctx, s.Code, "site "+s.Code+" added", func() error { _, err := e.store.AddSite(ctx, s); return err }); err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, s.Code)
}

// EditSite changes a site.
func (e *Engine) EditSite(ctx context.Context, code string, in contract.SiteInput) (contract.Site, error) {
	p, err := e.premises(code)
	if err != nil {
		return contract.Site{}, err
	}
	s, err := site.Site{ID: p.ID, Code: in.Code, Name: in.Name, Note: in.Note}.Checked()
	if err != nil {
		return contract.Site{}, err
	}
	if err := e.change(ctx, s.Code, "site "+s.Code+" edited", func() error { return e.store.EditSite(ctx, s) }); err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, s.Code)
}

// RemoveSite removes a site with everything on its record.
func (e *Engine) RemoveSite(ctx context.Context, code string) error {
	p, err := e.premises(code)
	if err != nil {
		return err
	}
	return e.change(ctx, p.Code, "site "+p.Code+" removed", func() error { _, err := e.store.RemoveSite(ctx, p.Site); return err })
}

// DeviceInput gives a device as a person would enter it, to edit.
func (e *Engine) DeviceInput(code, name string) (contract.DeviceInput, error) {
	_, d, err := e.device(code, name)
	return contract.DeviceInput{Name: d.Name, MAC: d.MAC, Address: addressText(d.Address), Reserved: d.Reserved, Router: d.Router}, err
}

// AddDevice records a device of a site.
func (e *Engine) AddDevice(ctx context.Context, code string, in contract.DeviceInput) (site.Device, error) {
	p, err := e.premises(code)
	if err != nil {
		return site.Device{}, err
	}
	return e.putDevice(ctx, p, site.Device{SiteID: p.ID}, in)
}

// EditDevice changes a device of a site.
func (e *Engine) EditDevice(ctx context.Context, code, name string, in contract.DeviceInput) (site.Device, error) {
	p, d, err := e.device(code, name)
	if err != nil {
		return d, err
	}
	return e.putDevice(ctx, p, d, in)
}

func (e *Engine) putDevice(ctx context.Context, p premises, d site.Device, in contract.DeviceInput) (site.Device, error) {
	address, err1 := parseAddress("lan_address", in.Address)
	d.Name, d.MAC, d.Address, d.Reserved, d.Router = in.Name, in.MAC, address, in.Reserved, in.Router
	if err1 != nil {
		return d, err1
	}
	d, err := d.Checked()
	if err != nil {
		return d, err
	}
	put, words := e.store.EditDevice, "device "+d.Name+" edited"
	if d.ID == 0 {
		put = func(ctx context.Context, d site.Device) error { _, err := e.store.AddDevice(ctx, d); return err }
		words = "device " + d.Name + " added"
	}
	if err := e.change(ctx, p.Code, words, func() error { return put(ctx, d) }); err != nil {
		return d, err
	}
	_, d, err = e.device(p.Code, d.Name)
	return d, err
}

// RemoveDevice removes a device that no service is on.
func (e *Engine) RemoveDevice(ctx context.Context, code, name string) error {
	p, d, err := e.device(code, name)
	if err != nil {
		return err
	}
	return e.change(ctx, p.Code, "device "+d.Name+" removed", func() error { return e.store.RemoveDevice(ctx, d) })
}

// Devices lists the devices of a site.
func (e *Engine) Devices(code string) ([]site.Device, error) {
	p, err := e.premises(code)
	return append([]site.Device{}, p.devices...), err
}

// Device gives one device.
func (e *Engine) Device(code, name string) (site.Device, error) {
	_, d, err := e.device(code, name)
	return d, err
}

func (e *Engine) device(code, name string) (premises, site.Device, error) {
	p, err := e.premises(code)
	if err != nil {
		return p, site.Device{}, err
	}
	if i := slices.IndexFunc(p.devices, func(d site.Device) bool { return d.Name == name }); i >= 0 {
		return p, p.devices[i], nil
	}
	return p, site.Device{}, store.Missing{Kind: "device of " + p.Code, Name: name}
}

// Reload reads the record anew and lets everything follow: for when the database was written by somebody else.
func (e *Engine) Reload(ctx context.Context) error {
	today, err := e.store.Today(ctx, e.now())
	if err != nil {
		return err
	}
	e.prober.book.resume(today)
	return e.change(ctx, "", "the record was read anew", func() error {
		e.moveIDs = nil // moves to come are to stand behind those that somebody else recorded
		return nil
	})
}
