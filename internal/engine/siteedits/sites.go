package siteedits

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// SiteInputOf returns a site as a person would enter it.
func SiteInputOf(s site.Site) contract.SiteInput {
	return contract.SiteInput{Code: s.Code, Name: s.Name, Note: s.Note, Tags: s.Tags, Router: s.Router}
}

// SiteResource says which revision of a site an edit is of.
func SiteResource(s site.Site) changes.Resource {
	return changes.Resource{Kind: "site", Name: s.Code, ID: s.ID, Revision: s.Revision, Tag: s.Tag()}
}

// AddSite records a site.
func (e *SiteEdits) AddSite(ctx context.Context, in contract.SiteInput) (contract.Site, error) {
	s, err := ReadSite(ctx, site.Site{}, in)
	if err != nil {
		return contract.Site{}, err
	}
	if err := e.Change(ctx, func() (changes.Edit, error) {
		return changes.Edit{Site: s.Code, Words: "site " + s.Code + " added", Touched: &record.Touched{SiteCode: s.Code},
			Write: func(ctx context.Context, tx *store.Store) error {
				_, err := tx.AddSite(ctx, s)
				return err
			}}, nil
	}); err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, s.Code)
}

// ReadSite reads what a person entered of a site, which has to be one that they see. Error: site.Flaws.
func ReadSite(ctx context.Context, s site.Site, in contract.SiteInput) (site.Site, error) {
	s, err := site.Site{ID: s.ID, Code: in.Code, Name: in.Name, Note: in.Note, Tags: in.Tags, Router: in.Router,
		Revision: s.Revision}.Checked()
	if err != nil {
		return s, err
	}
	if sight := rooms.SightOf(ctx); !sight.Sees(s.Tags) {
		return s, site.Flaws{{Field: "tags", Detail: "you see " + sight.Words() + ": give it one of those tags"}}
	}
	return s, nil
}

// EditSite changes a site.
func (e *SiteEdits) EditSite(ctx context.Context, code string, merge changes.Merge[contract.SiteInput]) (contract.Site, error) {
	var s site.Site
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, err := e.SiteSeen(ctx, code)
		if err != nil {
			return changes.Edit{}, err
		}
		of, before := SiteResource(p.Site), SiteInputOf(p.Site)
		in, err := changes.Merged(ctx, e.Changes, of, before, merge)
		if err != nil {
			return changes.Edit{}, err
		}
		if s, err = ReadSite(ctx, p.Site, in); err != nil {
			return changes.Edit{}, err
		}
		touched := &record.Touched{Sites: []int64{p.ID}}
		if s.Code == p.Code { // its keys have the code, too
			touched.Parts = record.Own
		}
		return changes.Edit{Site: s.Code, Words: "site " + s.Code + " edited", Touched: touched, Of: of,
			Before: before, After: SiteInputOf(s),
			Write: func(ctx context.Context, tx *store.Store) error { return tx.EditSite(ctx, s) }}, nil
	})
	if err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, s.Code)
}

// RemoveSite removes a site with everything on its record.
func (e *SiteEdits) RemoveSite(ctx context.Context, code string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		p, err := e.SiteSeen(ctx, code)
		return changes.Edit{Site: p.Code, Words: "site " + p.Code + " removed", Of: SiteResource(p.Site),
			Write: func(ctx context.Context, tx *store.Store) error {
				_, err := tx.RemoveSite(ctx, p.Site, e.Removal(ctx))
				return err
			}}, err
	})
}

// DeviceInputOf returns a device as a person would enter it.
func DeviceInputOf(d site.Device) contract.DeviceInput {
	return contract.DeviceInput{Name: d.Name, MAC: d.MAC, Address: rooms.AddressText(d.Address), Reserved: d.Reserved, Router: d.Router}
}

// DeviceResource says which revision of a device an edit is of.
func DeviceResource(d site.Device) changes.Resource {
	return changes.Resource{Kind: "device", Name: d.Name, ID: d.ID, Revision: d.Revision, Tag: d.Tag()}
}

// AddDevice records a device of a site.
func (e *SiteEdits) AddDevice(ctx context.Context, code string, in contract.DeviceInput) (site.Device, error) {
	var d site.Device
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, err := e.SiteSeen(ctx, code)
		if err != nil {
			return changes.Edit{}, err
		}
		if d, err = e.ReadDevice(site.Device{SiteID: p.ID}, in); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: p.Code, Words: "device " + d.Name + " added", Parts: record.Devices,
			Write: func(ctx context.Context, tx *store.Store) error { _, err := tx.AddDevice(ctx, d); return err }}, nil
	})
	if err != nil {
		return d, err
	}
	return e.Device(code, d.Name)
}

// EditDevice changes a device of a site.
func (e *SiteEdits) EditDevice(ctx context.Context, code, name string, merge changes.Merge[contract.DeviceInput]) (site.Device, error) {
	var d site.Device
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, now, err := e.FindDevice(code, name)
		if err != nil {
			return changes.Edit{}, err
		}
		in, err := changes.Merged(ctx, e.Changes, DeviceResource(now), DeviceInputOf(now), merge)
		if err != nil {
			return changes.Edit{}, err
		}
		if d, err = e.ReadDevice(now, in); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: p.Code, Words: "device " + d.Name + " edited",
			Parts: record.Devices | record.Services | record.Hostnames, Of: DeviceResource(now), Before: DeviceInputOf(now),
			After: DeviceInputOf(d),
			Write: func(ctx context.Context, tx *store.Store) error { return tx.EditDevice(ctx, d) }}, nil
	})
	if err != nil {
		return d, err
	}
	return e.Device(code, d.Name)
}

// ReadDevice reads what a person entered of a device. Error: site.Flaws.
func (e *SiteEdits) ReadDevice(d site.Device, in contract.DeviceInput) (site.Device, error) {
	address, err := site.ParseAddress("lan_address", in.Address)
	if err != nil {
		return d, err
	}
	d.Name, d.MAC, d.Address, d.Reserved, d.Router = in.Name, in.MAC, address, in.Reserved, in.Router
	return d.Checked(e.Policy)
}

// RemoveDevice removes a device that no service is on.
func (e *SiteEdits) RemoveDevice(ctx context.Context, code, name string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		p, d, err := e.FindDevice(code, name)
		return changes.Edit{Site: p.Code, Words: "device " + d.Name + " removed", Of: DeviceResource(d),
			Write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveDevice(ctx, d, e.Removal(ctx)) }}, err
	})
}
