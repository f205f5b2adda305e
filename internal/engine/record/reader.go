package record

import (
	"context"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Reader is what the record is read from: the database. A siteID of 0 stands for all sites, no names at which
// something is to be read for all names.
type Reader interface {
	Sites(ctx context.Context, siteID int64) ([]site.Site, error)
	Site(ctx context.Context, code string) (site.Site, error)
	Links(ctx context.Context, siteID int64) ([]site.Link, error)
	Hostnames(ctx context.Context, siteID int64, at ...names.Name) ([]site.Hostname, error)
	Devices(ctx context.Context, siteID int64) ([]site.Device, error)
	Services(ctx context.Context, siteID int64) ([]site.Service, error)
	Aliases(ctx context.Context, siteID int64, at ...names.Name) ([]site.Alias, error)
	Redirects(ctx context.Context, siteID int64) ([]site.Redirect, error)

	Zones(ctx context.Context) ([]names.Zone, error)
	ZonesByID(ctx context.Context, ids []int64) ([]names.Zone, error)
	Zone(ctx context.Context, apex names.Name) (names.Zone, error)
	ZoneRecords(ctx context.Context) ([]store.ZoneRecord, error)
	ZoneRecordsAt(ctx context.Context, zoneID int64, at []names.Name) ([]store.ZoneRecord, error)
	ZoneRecordsOf(ctx context.Context, zoneID int64) ([]store.ZoneRecord, error)

	Keys(ctx context.Context) ([]store.Key, error)
	KeysOf(ctx context.Context, siteID int64) ([]store.Key, error)
	KeysByID(ctx context.Context, ids []int64) ([]store.Key, error)
	KeysOfVantage(ctx context.Context, vantageID int64) ([]store.Key, error)
	SigningKeys(ctx context.Context) ([]store.SigningKey, error)
	SigningKeysOf(ctx context.Context, siteID int64, names []string) ([]store.SigningKey, error)
}
