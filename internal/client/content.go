package client

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// ZoneRecords lists the records put into a zone.
func (c *Client) ZoneRecords(ctx context.Context, apex string) ([]contract.ZoneRecord, error) {
	return call[[]contract.ZoneRecord](ctx, c, "GET", at("zones", apex, "records"), nil)
}

// AddZoneRecord puts a record into a zone.
func (c *Client) AddZoneRecord(ctx context.Context, apex string, in names.Record) (contract.ZoneRecord, error) {
	return call[contract.ZoneRecord](ctx, c, "POST", at("zones", apex, "records"), in)
}

// RemoveZoneRecord removes a record from a zone.
func (c *Client) RemoveZoneRecord(ctx context.Context, apex string, id int64) error {
	return c.remove(ctx, "zones", apex, "records", fmt.Sprint(id))
}

// Aliases lists all aliases.
func (c *Client) Aliases(ctx context.Context) ([]site.Alias, error) {
	return call[[]site.Alias](ctx, c, "GET", "/aliases", nil)
}

// AddAlias adds an alias.
func (c *Client) AddAlias(ctx context.Context, in contract.AliasInput) (site.Alias, error) {
	return call[site.Alias](ctx, c, "POST", "/aliases", in)
}

// RemoveAlias removes an alias.
func (c *Client) RemoveAlias(ctx context.Context, name string) error {
	return c.remove(ctx, "aliases", name)
}

// SigningKeys lists the TSIG keys.
func (c *Client) SigningKeys(ctx context.Context) ([]contract.SigningKey, error) {
	return call[[]contract.SigningKey](ctx, c, "GET", "/signing-keys", nil)
}

// AddSigningKey makes a TSIG key.
func (c *Client) AddSigningKey(ctx context.Context, in contract.SigningKeyInput) (contract.SigningKey, error) {
	return call[contract.SigningKey](ctx, c, "POST", "/signing-keys", in)
}

// RemoveSigningKey removes a TSIG key.
func (c *Client) RemoveSigningKey(ctx context.Context, name string) error {
	return c.remove(ctx, "signing-keys", name)
}
