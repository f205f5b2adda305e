package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

// Kits lists kits: sets of services for common equipment.
func (c *Client) Kits(ctx context.Context) ([]site.Kit, error) {
	return call[[]site.Kit](ctx, c, "GET", "/kits", nil)
}

// Kit returns a kit.
func (c *Client) Kit(ctx context.Context, name string) (site.Kit, error) {
	return call[site.Kit](ctx, c, "GET", at("kits", name), nil)
}

// ExportKit writes a kit as its file to w.
func (c *Client) ExportKit(ctx context.Context, name string, w io.Writer) error {
	return c.copy(ctx, at("kits", name, "file"), w)
}

// ImportKit keeps a kit of one's own, from its file.
func (c *Client) ImportKit(ctx context.Context, file io.Reader) (out site.Kit, err error) {
	r, err := c.send(ctx, c.http, http.MethodPost, "/kits", file, map[string][]string{"Content-Type": {"application/yaml"}})
	if err != nil {
		return out, err
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the server's reply cannot be read: %w", err)
	}
	return out, nil
}

// RemoveKit removes a kit of one's own.
func (c *Client) RemoveKit(ctx context.Context, name string) error {
	return c.remove(ctx, "kits", name)
}

// UseKit puts a device and its services on record by a kit.
func (c *Client) UseKit(ctx context.Context, code, kit string, in contract.KitUse) (contract.Site, error) {
	return call[contract.Site](ctx, c, "POST", at("sites", code, "kits", kit), in)
}
