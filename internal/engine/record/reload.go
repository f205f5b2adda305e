package record

import (
	"context"
	"errors"
	"slices"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

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
	// At are the only names of those sites, all on record, at which hostnames or aliases may differ; none stands for all.
	At []names.Name
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
	Links // not with another label: their keys have that
	Own   // what is of the site itself, with the same code

	allParts = Hostnames | Devices | Services | Aliases | Redirects | Links
)

// Told are the parts as other servers are told of them: those of the version before this one know nothing of the last two.
func (p Parts) Told() Parts {
	if p&(Links|Own) != 0 {
		return 0
	}
	return p
}

// Reload reads what an edit touched and returns what differs. Nothing changes when it fails. Error: that of the database.
func (r *Record) Reload(ctx context.Context, from Reader, t Touched) (Diff, error) {
	if t.Whole {
		return r.Load(ctx, from)
	}
	var fresh siteRows // of a site that was added: nothing belongs to it yet
	if t.SiteCode != "" {
		added, err := from.Site(ctx, t.SiteCode)
		if err != nil {
			return Diff{}, err
		}
		t.Sites, fresh = append(slices.Clone(t.Sites), added.ID), siteRows{site: added}
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
		switch {
		case !ok && id == fresh.site.ID:
			rows = fresh
		case ok && t.Parts != 0:
			rows, err = readParts(ctx, from, id, t.Parts, t.At)
		default:
			rows, err = readSite(ctx, from, id)
		}
		if err != nil {
			return Diff{}, err
		}
		read[i] = rows
		if t.Parts != 0 && t.Parts&(Hostnames|Aliases|Redirects|Links) == 0 {
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
	rows, err1 := readParts(ctx, from, id, allParts, nil)
	rows.site, rows.parts = list[0], 0
	var err2, err3 error
	rows.keys, err2 = from.KeysOf(ctx, id)
	rows.signing, err3 = from.SigningKeysOf(ctx, id, nil)
	return rows, errors.Join(err1, err2, err3)
}

// readParts reads some parts of a site again: of hostnames and aliases those at some names, or all where there are none.
func readParts(ctx context.Context, from Reader, id int64, parts Parts, at []names.Name) (siteRows, error) {
	rows := siteRows{parts: parts, at: at}
	var e1, e2, e3, e4, e5, e6, e7 error
	if parts&Hostnames != 0 {
		rows.hostnames, e1 = from.Hostnames(ctx, id, at...)
	}
	if parts&Devices != 0 {
		rows.devices, e2 = from.Devices(ctx, id)
	}
	if parts&Services != 0 {
		rows.services, e3 = from.Services(ctx, id)
	}
	if parts&Aliases != 0 {
		rows.aliases, e4 = from.Aliases(ctx, id, at...)
	}
	if parts&Redirects != 0 {
		rows.redirects, e5 = from.Redirects(ctx, id)
	}
	if parts&Links != 0 {
		rows.links, e6 = from.Links(ctx, id)
	}
	if parts&Own != 0 {
		var list []site.Site
		if list, e7 = from.Sites(ctx, id); len(list) > 0 {
			rows.site = list[0]
		} else {
			rows.parts &^= Own // it was removed since: that is read next
		}
	}
	return rows, errors.Join(e1, e2, e3, e4, e5, e6, e7)
}
