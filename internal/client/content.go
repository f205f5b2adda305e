package client

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
)

// ZoneRecords lists the records put into a zone.
func (c *Client) ZoneRecords(ctx context.Context, apex string) ([]contract.ZoneRecord, error) {
	return call[[]contract.ZoneRecord](ctx, c, "GET", at("zones", apex, "records"), nil)
}

// AddZoneRecord puts a record into a zone.
func (c *Client) AddZoneRecord(ctx context.Context, apex string, in contract.RecordInput) (contract.ZoneRecord, error) {
	return call[contract.ZoneRecord](ctx, c, "POST", at("zones", apex, "records"), in)
}

// RemoveZoneRecord removes a record from a zone.
func (c *Client) RemoveZoneRecord(ctx context.Context, apex string, id int64) error {
	return c.remove(ctx, "zones", apex, "records", fmt.Sprint(id))
}

// Aliases lists all aliases.
func (c *Client) Aliases(ctx context.Context) ([]contract.Alias, error) {
	return call[[]contract.Alias](ctx, c, "GET", "/aliases", nil)
}

// Alias returns an alias.
func (c *Client) Alias(ctx context.Context, name string) (contract.Alias, error) {
	return call[contract.Alias](ctx, c, "GET", at("aliases", name), nil)
}

// AddAlias adds an alias.
func (c *Client) AddAlias(ctx context.Context, in contract.AliasInput) (contract.Alias, error) {
	return call[contract.Alias](ctx, c, "POST", "/aliases", in)
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

// Redirects lists the redirect names.
func (c *Client) Redirects(ctx context.Context) ([]contract.Redirect, error) {
	return call[[]contract.Redirect](ctx, c, "GET", "/redirects", nil)
}

// Redirect returns a redirect name.
func (c *Client) Redirect(ctx context.Context, name string) (contract.Redirect, error) {
	return call[contract.Redirect](ctx, c, "GET", at("redirects", name), nil)
}

// AddRedirect adds a redirect name.
func (c *Client) AddRedirect(ctx context.Context, in contract.RedirectInput) (contract.Redirect, error) {
	return call[contract.Redirect](ctx, c, "POST", "/redirects", in)
}

// EditRedirect edits a redirect name.
func (c *Client) EditRedirect(ctx context.Context, name string, f Fields) (contract.Redirect, error) {
	return call[contract.Redirect](ctx, c, "PATCH", at("redirects", name), f)
}

// RemoveRedirect removes a redirect name.
func (c *Client) RemoveRedirect(ctx context.Context, name string) error {
	return c.remove(ctx, "redirects", name)
}

// HoldHostname holds a hostname at the address it has; ReleaseHostname lets it follow its link again.
func (c *Client) HoldHostname(ctx context.Context, name string) (contract.Hostname, error) {
	return call[contract.Hostname](ctx, c, "PUT", at("hostnames", name, "hold"), nil)
}

// ReleaseHostname lets a hostname follow its link again.
func (c *Client) ReleaseHostname(ctx context.Context, name string) (contract.Hostname, error) {
	return call[contract.Hostname](ctx, c, "DELETE", at("hostnames", name, "hold"), nil)
}

// CheckName reports whether a name is legal and free.
func (c *Client) CheckName(ctx context.Context, name string) (contract.NameCheck, error) {
	return call[contract.NameCheck](ctx, c, "GET", "/names/check"+query("name", name), nil)
}

// SuggestName makes a first name for a site, in a zone or, where that is empty, in the one with a template.
func (c *Client) SuggestName(ctx context.Context, code, zone string) (contract.NameCheck, error) {
	return call[contract.NameCheck](ctx, c, "GET", at("sites", code, "name-suggestion")+query("zone", zone), nil)
}
