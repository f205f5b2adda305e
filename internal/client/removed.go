package client

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
)

// Removed lists what was removed and can be brought back, the newest first.
func (c *Client) Removed(ctx context.Context) ([]contract.Removed, error) {
	return call[[]contract.Removed](ctx, c, "GET", "/removed", nil)
}

// Restore brings back what was removed.
func (c *Client) Restore(ctx context.Context, id int64) (contract.Removed, error) {
	return call[contract.Removed](ctx, c, "POST", at("removed", fmt.Sprint(id), "restoration"), nil)
}
