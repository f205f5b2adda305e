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

// ReloadNow is Reload in the same way. Error: that of the database.
func (r *Record) ReloadNow(ctx context.Context, st *store.Store, t Touched) (d Diff, err error) {
	err = st.Current(ctx, func(now store.Current) error {
		d, err = r.Reload(ctx, now, t)
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

// Touched says what an edit may have changed: the IDs of sites with everything that belongs to them, zones, access keys and vantage
// points with their keys, the names of signing keys, and names in zones that records were put at. Whole stands for everything.
type Touched struct {
	Whole    bool
	Sites    []int64
	SiteCode string // of a site that was added
	Zones    []int64
	Apex     names.Name // of a zone that was added
	Keys     []int64
	Vantages []int64
	Signing  []string
	Records  map[int64][]names.Name
	// Parts are what may differ of those sites; none stands for everything.
	Parts Parts
	// AllRecords are zones whose records may all be others.
	AllRecords []int64
}

// Parts are parts of a site's record. What an edit cannot have changed is not read again: most of what an edit costs is reading back.
type Parts uint8

// The parts of a site's record that are read alone.
const (
	Hostnames Parts = 1 << iota
	Devices
	Services
	Aliases
	Redirects
)

// Reload reads what an edit touched and returns what differs. Nothing changes when it fails. Error: that of the database.
func (r *Record) Reload(ctx context.Context, from Reader, t Touched) (Diff, error) {
	if t.Whole {
		return r.Load(ctx, from)
	}
	if t.SiteCode != "" {
		added, err := from.Site(ctx, t.SiteCode)
		if err != nil {
			return Diff{}, err
		}
		t.Sites = append(slices.Clone(t.Sites), added.ID)
	}
	if t.Apex != "" {
		added, err := from.Zone(ctx, t.Apex)
		if err != nil {
			return Diff{}, err
		}
		t.Zones = append(slices.Clone(t.Zones), added.ID)
		t.AllRecords = append(slices.Clone(t.AllRecords), added.ID)
	}
	read := make([]siteRows, len(t.Sites))
	zones := map[int64]bool{}
	for _, id := range t.Zones {
		zones[id] = true
	}
	for i, id := range t.Sites {
		before, ok := r.Site(id)
		var rows siteRows
		var err error
		if ok && t.Parts != 0 {
			rows, err = readParts(ctx, from, id, t.Parts)
		} else {
			rows, err = readSite(ctx, from, id)
		}
		if err != nil {
			return Diff{}, err
		}
		read[i] = rows
		if t.Parts != 0 && t.Parts&(Hostnames|Aliases|Redirects) == 0 {
			continue // no zone has anything of it
		}
		for _, p := range []Site{before, newSite(rows)} { // whose serials went up with it
			for _, zone := range p.everyZoneID() {
				zones[zone] = true
			}
		}
	}
	records := map[int64][]store.ZoneRecord{}
	for id, at := range t.Records {
		zones[id] = true
		list, err := from.ZoneRecordsAt(ctx, id, at)
		if err != nil {
			return Diff{}, err
		}
		records[id] = list
	}
	for _, id := range t.AllRecords {
		list, err := from.ZoneRecordsOf(ctx, id)
		if err != nil {
			return Diff{}, err
		}
		records[id] = list
	}
	zoneIDs := make([]int64, 0, len(zones))
	for id := range zones {
		zoneIDs = append(zoneIDs, id)
	}
	var zoneRows []names.Zone
	var keyRows []store.Key
	var signingRows []store.SigningKey
	var err1, err2, err3 error
	if len(zoneIDs) > 0 {
		zoneRows, err1 = from.ZonesByID(ctx, zoneIDs)
	}
	if len(t.Keys) > 0 {
		keyRows, err2 = from.KeysByID(ctx, t.Keys)
	}
	if len(t.Signing) > 0 {
		signingRows, err3 = from.SigningKeysOf(ctx, 0, t.Signing)
	}
	if err := errors.Join(err1, err2, err3); err != nil {
		return Diff{}, err
	}
	for _, id := range t.Vantages {
		list, err := from.KeysOfVantage(ctx, id)
		if err != nil {
			return Diff{}, err
		}
		keyRows = append(keyRows, list...)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version++
	d := r.replaceSites(t.Sites, read)
	d.names = map[int64]map[names.Name]bool{}
	r.replaceZones(zoneIDs, zoneRows, &d)
	r.replaceRecords(t, records, &d)
	r.replaceKeys(t, keyRows, signingRows)
	for _, p := range d.Sites {
		d.noteNames(p)
	}
	return d, nil
}

func readSite(ctx context.Context, from Reader, id int64) (rows siteRows, err error) {
	list, err := from.Sites(ctx, id)
	if err != nil || len(list) == 0 {
		return rows, err
	}
	rows.site = list[0]
	var e1, e2, e3, e4, e5, e6, e7, e8 error
	rows.links, e1 = from.Links(ctx, id)
	rows.hostnames, e2 = from.Hostnames(ctx, id)
	rows.devices, e3 = from.Devices(ctx, id)
	rows.services, e4 = from.Services(ctx, id)
	rows.aliases, e5 = from.Aliases(ctx, id)
	rows.redirects, e6 = from.Redirects(ctx, id)
	rows.keys, e7 = from.KeysOf(ctx, id)
	rows.signing, e8 = from.SigningKeysOf(ctx, id, nil)
	return rows, errors.Join(e1, e2, e3, e4, e5, e6, e7, e8)
}

// readParts reads some parts of a site again.
func readParts(ctx context.Context, from Reader, id int64, parts Parts) (siteRows, error) {
	rows := siteRows{parts: parts}
	var e1, e2, e3, e4, e5 error
	if parts&Hostnames != 0 {
		rows.hostnames, e1 = from.Hostnames(ctx, id)
	}
	if parts&Devices != 0 {
		rows.devices, e2 = from.Devices(ctx, id)
	}
	if parts&Services != 0 {
		rows.services, e3 = from.Services(ctx, id)
	}
	if parts&Aliases != 0 {
		rows.aliases, e4 = from.Aliases(ctx, id)
	}
	if parts&Redirects != 0 {
		rows.redirects, e5 = from.Redirects(ctx, id)
	}
	return rows, errors.Join(e1, e2, e3, e4, e5)
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
			d.Sites = append(d.Sites, SiteChange{before, after})
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
		d.Sites = append(d.Sites, SiteChange{before, after})
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
