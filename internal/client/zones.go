package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
)

// ZonePushes says how each name of a remote zone stands at its primary.
func (c *Client) ZonePushes(ctx context.Context, apex string) ([]contract.Push, error) {
	return call[[]contract.Push](ctx, c, "GET", at("zones", apex, "pushes"), nil)
}

// PushZone pushes all names of a remote zone now.
func (c *Client) PushZone(ctx context.Context, apex string) ([]contract.Push, error) {
	return call[[]contract.Push](ctx, c, "POST", at("zones", apex, "pushes"), nil)
}

// ZoneDifferences says what a push would change. Nothing is pushed.
func (c *Client) ZoneDifferences(ctx context.Context, apex string) ([]names.Difference, error) {
	return call[[]names.Difference](ctx, c, "GET", at("zones", apex, "differences"), nil)
}

// ExportZone writes a zone as a zone file to w.
func (c *Client) ExportZone(ctx context.Context, apex string, w io.Writer) error {
	return c.copy(ctx, at("zones", apex, "file"), w)
}

// ImportZone takes a zone file over into a zone.
func (c *Client) ImportZone(ctx context.Context, apex string, file io.Reader, how contract.ZoneImportInput) (out contract.ZoneImport,
	err error) {
	yes := map[bool]string{true: "true"}
	header := map[string][]string{"Content-Type": {"text/dns"}}
	r, err := c.send(ctx, c.http, "POST", at("zones", apex, "file")+
		query("replace", yes[how.Replace], "replace_servers", yes[how.ReplaceServers], "dry_run", yes[how.DryRun]), file, header)
	if err != nil {
		return out, err
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the server's reply cannot be read: %w", err)
	}
	return out, nil
}
