// Package recordtest holds rows in memory that a record can be read from, for tests of rooms without a database.
//
// Errors of all methods: one that there is no such row.
package recordtest

import (
	"context"
	"errors"
	"slices"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Rows is what a database would hold. It implements record.Reader and is not safe for concurrent use.
type Rows struct {
	SiteRows     []site.Site
	LinkRows     []site.Link
	HostnameRows []site.Hostname
	DeviceRows   []site.Device
	ServiceRows  []site.Service
	AliasRows    []site.Alias
	RedirectRows []site.Redirect
	ZoneRows     []names.Zone
	RecordRows   []store.ZoneRecord
	KeyRows      []store.Key
	SigningRows  []store.SigningKey
}

// some returns the rows that keep reports true for.
func some[T any](rows []T, keep func(T) bool) (out []T) {
	for _, one := range rows {
		if keep(one) {
			out = append(out, one)
		}
	}
	return out
}

// of returns the rows of one site, or of all.
func of[T any](rows []T, siteID int64, siteOf func(T) int64) ([]T, error) {
	return some(rows, func(one T) bool { return siteID == 0 || siteOf(one) == siteID }), nil
}

var errNone = errors.New("there is no such row")

// one returns the only row that keep reports true for.
func one[T any](rows []T, keep func(T) bool) (T, error) {
	list := some(rows, keep)
	if len(list) == 0 {
		var none T
		return none, errNone
	}
	return list[0], nil
}

// Sites lists sites.
func (r *Rows) Sites(_ context.Context, id int64) ([]site.Site, error) {
	return of(r.SiteRows, id, func(s site.Site) int64 { return s.ID })
}

// Site returns a site by its code.
func (r *Rows) Site(_ context.Context, code string) (site.Site, error) {
	return one(r.SiteRows, func(s site.Site) bool { return s.Code == code })
}

// Links lists links.
func (r *Rows) Links(_ context.Context, id int64) ([]site.Link, error) {
	return of(r.LinkRows, id, func(l site.Link) int64 { return l.SiteID })
}

// Hostnames lists hostnames.
func (r *Rows) Hostnames(_ context.Context, id int64, at ...names.Name) ([]site.Hostname, error) {
	list, err := of(r.HostnameRows, id, func(h site.Hostname) int64 { return h.SiteID })
	return some(list, func(h site.Hostname) bool { return len(at) == 0 || slices.Contains(at, h.Name) }), err
}

// Devices lists devices.
func (r *Rows) Devices(_ context.Context, id int64) ([]site.Device, error) {
	return of(r.DeviceRows, id, func(d site.Device) int64 { return d.SiteID })
}

// Services lists services.
func (r *Rows) Services(_ context.Context, id int64) ([]site.Service, error) {
	return of(r.ServiceRows, id, func(s site.Service) int64 { return s.SiteID })
}

// Aliases lists aliases.
func (r *Rows) Aliases(_ context.Context, id int64, at ...names.Name) ([]site.Alias, error) {
	list, err := of(r.AliasRows, id, func(a site.Alias) int64 { return a.SiteID })
	return some(list, func(a site.Alias) bool { return len(at) == 0 || slices.Contains(at, a.Name) }), err
}

// Redirects lists redirects.
func (r *Rows) Redirects(_ context.Context, id int64) ([]site.Redirect, error) {
	return of(r.RedirectRows, id, func(d site.Redirect) int64 { return d.SiteID })
}

// Zones lists zones.
func (r *Rows) Zones(context.Context) ([]names.Zone, error) { return slices.Clone(r.ZoneRows), nil }

// ZonesByID lists some zones.
func (r *Rows) ZonesByID(_ context.Context, ids []int64) ([]names.Zone, error) {
	return some(r.ZoneRows, func(z names.Zone) bool { return slices.Contains(ids, z.ID) }), nil
}

// Zone returns a zone by its apex.
func (r *Rows) Zone(_ context.Context, apex names.Name) (names.Zone, error) {
	return one(r.ZoneRows, func(z names.Zone) bool { return z.Apex == apex })
}

// ZoneRecords lists records.
func (r *Rows) ZoneRecords(context.Context) ([]store.ZoneRecord, error) {
	return slices.Clone(r.RecordRows), nil
}

// ZoneRecordsAt lists the records of a zone at some names.
func (r *Rows) ZoneRecordsAt(_ context.Context, zoneID int64, at []names.Name) ([]store.ZoneRecord, error) {
	return some(r.RecordRows, func(x store.ZoneRecord) bool { return x.ZoneID == zoneID && slices.Contains(at, x.Name) }), nil
}

// ZoneRecordsOf lists the records of a zone.
func (r *Rows) ZoneRecordsOf(_ context.Context, zoneID int64) ([]store.ZoneRecord, error) {
	return some(r.RecordRows, func(x store.ZoneRecord) bool { return x.ZoneID == zoneID }), nil
}

// Keys lists access keys.
func (r *Rows) Keys(context.Context) ([]store.Key, error) { return slices.Clone(r.KeyRows), nil }

// KeysOf lists the access keys of a site's links.
func (r *Rows) KeysOf(_ context.Context, siteID int64) ([]store.Key, error) {
	return some(r.KeyRows, func(k store.Key) bool {
		return slices.ContainsFunc(r.LinkRows, func(l site.Link) bool { return l.SiteID == siteID && l.ID == int64(k.LinkID) })
	}), nil
}

// KeysByID lists some access keys.
func (r *Rows) KeysByID(_ context.Context, ids []int64) ([]store.Key, error) {
	return some(r.KeyRows, func(k store.Key) bool { return slices.Contains(ids, k.ID) }), nil
}

// KeysOfVantage lists the access keys of a vantage point.
func (r *Rows) KeysOfVantage(_ context.Context, vantageID int64) ([]store.Key, error) {
	return some(r.KeyRows, func(k store.Key) bool { return int64(k.VantageID) == vantageID }), nil
}

// SigningKeys lists signing keys.
func (r *Rows) SigningKeys(context.Context) ([]store.SigningKey, error) {
	return slices.Clone(r.SigningRows), nil
}

// SigningKeysOf lists the signing keys of a site and those of some names.
func (r *Rows) SigningKeysOf(_ context.Context, siteID int64, named []string) ([]store.SigningKey, error) {
	return some(r.SigningRows, func(k store.SigningKey) bool {
		return siteID != 0 && int64(k.SiteID) == siteID || slices.Contains(named, k.Name)
	}), nil
}
