package record

import (
	"context"
	"errors"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/store"
)

// LoadNow is Load from the database as it is at one moment, with what is accepted and not yet in its tables. Error: that of the database.
func (r *Record) LoadNow(ctx context.Context, st *store.Store) (d Diff, err error) {
	err = st.Current(ctx, func(now store.Current) error {
		d, err = r.Load(ctx, now)
		return err
	})
	return d, err
}

// ReloadNow is Reload for a server that follows: of what it has already, addresses and serials stay. They come with moves, both at once.
// Error: that of the database.
func (r *Record) ReloadNow(ctx context.Context, st *store.Store, t Touched) (d Diff, err error) {
	err = st.Current(ctx, func(now store.Current) error {
		d, err = r.Reload(ctx, steady{now, r}, t)
		return err
	})
	return d, err
}

// Load reads the whole record from the database and returns how it differs from what was in memory. Nothing changes when it fails. Error:
// that of the database.
func (r *Record) Load(ctx context.Context, from Reader) (Diff, error) {
	next := emptyContent()
	sites, err1 := from.Sites(ctx, 0)
	links, err2 := from.Links(ctx, 0)
	hostnames, err3 := from.Hostnames(ctx, 0)
	devices, err4 := from.Devices(ctx, 0)
	services, err5 := from.Services(ctx, 0)
	zones, err6 := from.Zones(ctx)
	aliases, err7 := from.Aliases(ctx, 0)
	redirects, err8 := from.Redirects(ctx, 0)
	records, err9 := from.ZoneRecords(ctx)
	signing, err10 := from.SigningKeys(ctx)
	keys, err11 := from.Keys(ctx)
	if err := errors.Join(err1, err2, err3, err4, err5, err6, err7, err8, err9, err10, err11); err != nil {
		return Diff{}, err
	}
	rows := make(map[int64]*siteRows, len(sites))
	for _, s := range sites {
		rows[s.ID] = &siteRows{site: s}
	}
	of := func(siteID int64) *siteRows {
		if one := rows[siteID]; one != nil {
			return one
		}
		return &siteRows{} // it was added between two of the queries: the next load has it
	}
	for _, l := range links {
		of(l.SiteID).links = append(of(l.SiteID).links, l)
	}
	for _, h := range hostnames {
		of(h.SiteID).hostnames = append(of(h.SiteID).hostnames, h)
	}
	for _, d := range devices {
		of(d.SiteID).devices = append(of(d.SiteID).devices, d)
	}
	for _, s := range services {
		of(s.SiteID).services = append(of(s.SiteID).services, s)
	}
	for _, a := range aliases {
		of(a.SiteID).aliases = append(of(a.SiteID).aliases, a)
	}
	for _, one := range redirects {
		of(one.SiteID).redirects = append(of(one.SiteID).redirects, one)
	}
	for _, s := range sites { // in order of code
		one := rows[s.ID]
		one.links, one.hostnames, one.devices = slices.Clone(one.links), slices.Clone(one.hostnames), slices.Clone(one.devices)
		one.services = slices.Clone(one.services) // without the room that appending has left: the record stays
		next.put(newSite(*one))
		next.sorted = append(next.sorted, s.ID)
	}
	for _, z := range zones {
		next.zones[z.ID] = z
	}
	for _, one := range records {
		next.putRecord(one)
	}
	for _, k := range keys {
		next.putKey(k)
	}
	for _, k := range signing {
		next.putSigning(k)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version++
	d := wholeDiff(r.content, next)
	r.content = next
	return d, nil
}

// replaceSites replaces sites by what was read. The caller holds r.mu, as for all that follow.
func (r *Record) replaceSites(ids []int64, read []siteRows) (d Diff) {
	if r.sites == nil {
		r.content = emptyContent()
	}
	for i, id := range ids {
		before := r.sites[id]
		if read[i].parts != 0 {
			after := newSite(before.rows().with(read[i])) // what was not read may have changed meanwhile
			r.drop(before)
			r.put(after)
			r.resort(before, after)
			d.Sites = append(d.Sites, SiteChange{before, after, read[i].at})
			continue
		}
		after := newSite(read[i])
		r.drop(before)
		for linkID := range before.place {
			for _, keyID := range slices.Clone(r.linkKeys[linkID]) {
				r.dropKey(keyID)
			}
		}
		for _, name := range slices.Clone(r.siteSigning[id]) {
			r.dropSigning(name)
		}
		if after.ID != 0 {
			r.put(after)
		}
		for _, k := range read[i].keys {
			r.putKey(k)
		}
		for _, k := range read[i].signing {
			r.putSigning(k)
		}
		r.resort(before, after)
		d.Sites = append(d.Sites, SiteChange{Before: before, After: after})
	}
	return d
}

func (r *Record) replaceZones(ids []int64, rows []names.Zone, d *Diff) {
	for _, id := range ids {
		before := r.zones[id]
		i := slices.IndexFunc(rows, func(z names.Zone) bool { return z.ID == id })
		if i < 0 {
			delete(r.zones, id)
			delete(r.records, id)
			d.Zones = append(d.Zones, ZoneChange{Before: before})
			continue
		}
		r.zones[id] = rows[i]
		d.Zones = append(d.Zones, ZoneChange{before, rows[i]})
	}
}

func (r *Record) replaceRecords(t Touched, rows map[int64][]store.ZoneRecord, d *Diff) {
	for id, at := range t.Records {
		for _, name := range at {
			delete(r.records[id], name)
			d.noteName(id, name)
		}
	}
	for _, id := range t.AllRecords {
		for name := range r.records[id] {
			d.noteName(id, name)
		}
		delete(r.records, id)
	}
	for id, list := range rows {
		for _, one := range list {
			r.putRecord(one)
			d.noteName(id, one.Name)
		}
	}
}

func (r *Record) replaceKeys(t Touched, keys []store.Key, signing []store.SigningKey) {
	for _, id := range t.Keys {
		r.dropKey(id)
	}
	for _, vantage := range t.Vantages {
		for _, k := range r.keys {
			if int64(k.VantageID) == vantage {
				r.dropKey(k.ID)
			}
		}
	}
	for _, k := range keys {
		r.putKey(k)
	}
	for _, name := range t.Signing {
		r.dropSigning(strings.ToLower(name))
	}
	for _, k := range signing {
		r.putSigning(k)
	}
}

// everyZoneID lists the zones in which the site has names of any sort.
func (p Site) everyZoneID() []int64 {
	out := p.ZoneIDs()
	add := func(id int64) {
		if !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	for _, a := range p.Aliases {
		add(a.ZoneID)
	}
	for _, r := range p.Redirects {
		add(r.ZoneID)
	}
	return out
}
