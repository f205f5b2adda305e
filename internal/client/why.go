package client

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
)

// Why returns how the causes of what fails at a site were weighed.
func (c *Client) Why(ctx context.Context, code string) (contract.Why, error) {
	return call[contract.Why](ctx, c, "GET", at("sites", code)+"/why", nil)
}

// Causes lists all causes of faults.
func (c *Client) Causes(ctx context.Context) ([]contract.Cause, error) {
	return call[[]contract.Cause](ctx, c, "GET", "/causes", nil)
}
