package record

import (
	"context"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// steady reads the record with the addresses and serials that are in memory, where those are there: an edit that is read back while a move
// waits to be settled would give the one without the other.
type steady struct {
	store.Current
	known *Record
}

// Links lists a site's links. Error: that of the database.
func (s steady) Links(ctx context.Context, siteID int64) ([]site.Link, error) {
	list, err := s.Current.Links(ctx, siteID)
	for i, l := range list {
		if _, was, ok := s.known.SiteOfLink(l.ID); ok && l.Mode != site.Static {
			list[i].IPv4, list[i].IPv6, list[i].Source, list[i].Since = was.IPv4, was.IPv6, was.Source, was.Since
		}
	}
	return list, err
}

// ZonesByID lists zones. Error: that of the database.
func (s steady) ZonesByID(ctx context.Context, ids []int64) ([]names.Zone, error) {
	list, err := s.Current.ZonesByID(ctx, ids)
	for i, z := range list {
		if was := s.known.Zone(z.ID); was.ID != 0 && names.SerialAfter(was.Serial, z.Serial) {
			list[i].Serial = was.Serial
		}
	}
	return list, err
}
