package siteedits

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/kitfile"
)

// ImportKit reads a kit from a YAML file and keeps it, or replaces the one made here that has its name.
func (e *SiteEdits) ImportKit(ctx context.Context, file io.Reader, by string) (site.Kit, error) {
	k, err := kitfile.Read(file)
	if err != nil {
		return k, err
	}
	if slices.ContainsFunc(site.Kits(), func(one site.Kit) bool { return one.Name == k.Name }) {
		return k, site.Flaws{{Field: "kit", Detail: k.Name + " is a ready-made kit; choose another name"}}
	}
	k.Own = true
	if err := e.Store.PutKit(ctx, k, by, e.Now()); err != nil {
		return k, err
	}
	return k, e.Rooms.Runs.ReadKits(ctx)
}

// ExportKit writes a kit as its YAML file.
func (e *SiteEdits) ExportKit(ctx context.Context, name string, w io.Writer) error {
	k, err := e.Kit(ctx, name)
	if err != nil {
		return err
	}
	return kitfile.Write(w, k)
}

// RemoveKit removes a kit that was made here. What was put on record by it stays.
func (e *SiteEdits) RemoveKit(ctx context.Context, name string) error {
	if err := e.Store.RemoveKit(ctx, name); err != nil {
		return err
	}
	return e.Rooms.Runs.ReadKits(ctx)
}

// UseKit puts a device and its services on record by a kit: all of them, or none.
func (e *SiteEdits) UseKit(ctx context.Context, code, name string, in contract.KitUse) (contract.Site, error) {
	k, err := e.Kit(ctx, name)
	if err != nil {
		return contract.Site{}, err
	}
	err = e.Change(ctx, func() (changes.Edit, error) {
		p, err := e.SiteSeen(ctx, code)
		if err != nil {
			return changes.Edit{}, err
		}
		d, err := e.ReadDevice(site.Device{SiteID: p.ID, Kit: k.Name}, contract.DeviceInput{Name: in.Device, MAC: in.MAC,
			Address:  in.Address,
			Reserved: in.Reserved})
		if err != nil {
			return changes.Edit{}, err
		}
		list, err := k.ServicesOn(d, in.Shift, e.ShortestInterval)
		if err != nil {
			return changes.Edit{}, err
		}
		if in.Closed { // behind a VPN instead
			for i := range list {
				list[i].Expected = probe.ExpectClosed
			}
		}
		for i, s := range list {
			if s.Kind == probe.KindWireGuard {
				if list[i].ProbeKey, err = newProbeKey(); err != nil {
					return changes.Edit{}, err
				}
			}
		}
		return changes.Edit{Site: p.Code, Words: fmt.Sprintf("%s was put on record by kit %s", d.Name, k.Name),
			Parts: record.Devices | record.Services,
			Write: func(ctx context.Context, tx *store.Store) error {
				id, err := tx.AddDevice(ctx, d)
				for _, s := range list {
					if err == nil {
						s.DeviceID = id
						_, err = tx.PutService(ctx, s)
					}
				}
				return err
			}}, nil
	})
	if err != nil {
		return contract.Site{}, err
	}
	return e.Site(ctx, strings.ToUpper(code))
}
