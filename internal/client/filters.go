package client

import (
	"context"
	"strconv"

	"inkpost.example/inkpost/internal/contract"
)

// SiteFilters lists one's own filters of the list of sites.
func (c *Client) SiteFilters(ctx context.Context) ([]contract.SiteFilter, error) {
	return call[[]contract.SiteFilter](ctx, c, "GET", "/site-filters", nil)
}

// KeepSiteFilter keeps a filter, such as tag=museum&need=now.
func (c *Client) KeepSiteFilter(ctx context.Context, query string) (contract.SiteFilter, error) {
	return call[contract.SiteFilter](ctx, c, "POST", "/site-filters", contract.SiteFilterInput{Query: query})
}

// DropSiteFilter drops a filter.
func (c *Client) DropSiteFilter(ctx context.Context, id int64) error {
	_, err := call[nothing](ctx, c, "DELETE", at("site-filters", strconv.FormatInt(id, 10)), nil)
	return err
}
