// Package filters keeps what somebody narrows the list of sites to again and again.
package filters

import (
	"context"
	"net/url"
	"slices"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Filters are those of all people.
type Filters struct{ store *store.Store }

// New returns the filters on record.
func New(st *store.Store) Filters { return Filters{st} }

// filterNames are what a list of sites can be narrowed by.
var filterNames = []string{"find", "need", "sort", "tag"}

// maxFilter is how long a filter may be, in octets.
const maxFilter = 300

// Of lists the filters that a person keeps. Error: that of the database.
func (f Filters) Of(ctx context.Context, personID int64) ([]store.SiteFilter, error) {
	return f.store.SiteFilters(ctx, personID)
}

// Keep keeps a filter for a person, written in one way however it was given. Errors: site.Flaws, that of the database.
func (f Filters) Keep(ctx context.Context, personID int64, query string) (store.SiteFilter, error) {
	values, err := url.ParseQuery(query)
	for name, list := range values {
		if !slices.Contains(filterNames, name) || len(list) != 1 {
			return store.SiteFilter{}, site.Flaws{{Field: "query", Detail: "has find, need, sort and tag, each once at most"}}
		}
		if list[0] == "" {
			values.Del(name)
		}
	}
	if err != nil || len(values) == 0 || len(query) > maxFilter {
		return store.SiteFilter{}, site.Flaws{{Field: "query", Detail: "is the query of an address, such as tag=museum&need=now, " +
			"of 300 characters at most"}}
	}
	return f.store.KeepSiteFilter(ctx, personID, values.Encode())
}

// Drop forgets a filter of a person. Errors: store.Missing, that of the database.
func (f Filters) Drop(ctx context.Context, personID, id int64) error {
	return f.store.DropSiteFilter(ctx, personID, id)
}
