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

// Accuracy counts how often each cause was told, and how often it was right.
func (c *Client) Accuracy(ctx context.Context) ([]contract.Accuracy, error) {
	return call[[]contract.Accuracy](ctx, c, "GET", "/faults/accuracy", nil)
}
