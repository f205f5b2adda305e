package client

import (
	"context"
	"strconv"

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

// JudgeFault says whether the cause of a fault was right, or what it was.
func (c *Client) JudgeFault(ctx context.Context, id int64, in contract.FaultJudgementInput) (contract.FaultJudgement, error) {
	return call[contract.FaultJudgement](ctx, c, "PUT", at("faults", strconv.FormatInt(id, 10), "judgement"), in)
}

// Accuracy counts how often each cause was told, and how often it was right.
func (c *Client) Accuracy(ctx context.Context) ([]contract.Accuracy, error) {
	return call[[]contract.Accuracy](ctx, c, "GET", "/faults/accuracy", nil)
}
