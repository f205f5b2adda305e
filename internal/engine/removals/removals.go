// Package removals lists what was removed from the record, and brings it back. It owns nothing.
//
// No lock of the engine may be held when it is called: bringing back takes the edit lock (see package changes).
package removals

import (
	"context"
	"fmt"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
)

// Removals is the room.
type Removals struct {
	*rooms.Rooms
	*changes.Changes
}

func shown(r store.Removed) contract.Removed {
	return contract.Removed{ID: r.ID, Kind: r.Kind, Name: r.Name, Site: r.Site, Person: r.Person, At: r.At, Until: r.Until}
}

// sees reports whether whoever asks sees what was removed: by the tags that its site has, or had.
func (e *Removals) sees(ctx context.Context, r store.Removed) bool {
	if r.SiteID != 0 {
		return e.Sees(ctx, r.SiteID)
	}
	return rooms.SightOf(ctx).Sees(r.Tags)
}

// Removed lists what can be brought back, the newest first. Error: that of the database.
func (e *Removals) Removed(ctx context.Context) ([]contract.Removed, error) {
	list, err := e.Store.RemovedAt(ctx, e.Now())
	out := []contract.Removed{}
	for _, r := range list {
		if e.sees(ctx, r) {
			out = append(out, shown(r))
		}
	}
	return out, err
}

// Restore brings back something that was removed, with its history. Errors: store.Missing, store.Without, store.Taken, site.Flaws,
// changes.ErrBusy, changes.ErrCommitted, that of the database.
func (e *Removals) Restore(ctx context.Context, id int64) (contract.Removed, error) {
	var back store.Removed
	err := e.Change(ctx, func() (changes.Edit, error) {
		list, err := e.Store.RemovedAt(ctx, e.Now())
		if err != nil {
			return changes.Edit{}, err
		}
		i := slices.IndexFunc(list, func(r store.Removed) bool { return r.ID == id && e.sees(ctx, r) })
		if i < 0 {
			return changes.Edit{}, store.Missing{Kind: "removal", Name: fmt.Sprint(id)}
		}
		back = list[i]
		touched := &record.Touched{Sites: []int64{back.SiteID}}
		if back.Kind == "site" {
			touched.Sites = []int64{back.Ref}
		}
		return changes.Edit{Site: back.Site, Words: back.Kind + " " + back.Name + " brought back", Touched: touched,
			Write: func(ctx context.Context, tx *store.Store) error {
				if back, err = tx.Restore(ctx, id, e.Now()); err != nil {
					return err
				}
				if err := secretsFit(ctx, tx, touched.Sites[0]); err != nil {
					return err
				}
				return e.namesFit(ctx, tx, touched.Sites[0])
			}}, nil
	})
	return shown(back), err
}

// secretsFit makes sure that the secrets that came back can be read: their key may have been replaced meanwhile, and a record with such a
// secret could not be loaded. Errors: seal.ErrClosed, that of the database.
func secretsFit(ctx context.Context, tx *store.Store, siteID int64) error {
	_, err := tx.Services(ctx, siteID)
	if err == nil {
		_, err = tx.SigningKeysOf(ctx, siteID, nil)
	}
	return err
}

// namesFit makes sure that the names that a site got back are not somebody else's by now: those that the record in memory does not have
// yet. Errors: site.Flaws, that of the database.
func (e *Removals) namesFit(ctx context.Context, tx *store.Store, siteID int64) error {
	hostnames, err := tx.Hostnames(ctx, siteID)
	if err != nil {
		return err
	}
	aliases, err := tx.Aliases(ctx, siteID)
	if err != nil {
		return err
	}
	redirects, err := tx.Redirects(ctx, siteID)
	if err != nil {
		return err
	}
	var f site.Flaws
	check := func(zone int64, records ...names.Record) {
		f.Note("name", e.Rooms.Zones.Check(e.Record.Zone(zone), records, zones.LeaveNone))
	}
	p, _ := e.Record.Site(siteID)
	for _, h := range hostnames {
		if slices.ContainsFunc(p.Hostnames, func(now site.Hostname) bool { return now.ID == h.ID }) {
			continue
		}
		check(h.ZoneID, h.Records()...)
		for _, name := range h.Owners() {
			if _, taken := e.Record.Redirect(name); taken {
				f.Note("name", fmt.Errorf("%s is a redirect by now; remove that first", name))
			}
		}
		for _, a := range aliases {
			if a.HostnameID == h.ID {
				check(a.ZoneID, names.Record{Name: a.Name, Type: "CNAME", Data: string(h.Name) + "."})
			}
		}
		for _, r := range redirects {
			if r.HostnameID != h.ID {
				continue
			}
			check(r.ZoneID, names.Record{Name: r.Name, Type: "A", Data: "redirect"})
			if _, _, taken := e.Record.HostnameAt(r.Name); taken {
				f.Note("name", fmt.Errorf("%s is a hostname by now; remove that first", r.Name))
			}
		}
	}
	return f.Err()
}
