package client

import (
	"context"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

func faultAt(id int64, part ...string) string {
	return at(append([]string{"faults", strconv.FormatInt(id, 10)}, part...)...)
}

// Fault returns a fault with all that happened to it.
func (c *Client) Fault(ctx context.Context, id int64) (contract.FaultStory, error) {
	return call[contract.FaultStory](ctx, c, "GET", faultAt(id), nil)
}

// TakeFault says that a fault is known, and whose it is to mend.
func (c *Client) TakeFault(ctx context.Context, id int64, in contract.FaultTaking) (contract.FaultStory, error) {
	return call[contract.FaultStory](ctx, c, "PUT", faultAt(id, "taking"), in)
}

// NoteFault adds a note to a fault's timeline.
func (c *Client) NoteFault(ctx context.Context, id int64, note string) (contract.FaultStory, error) {
	return call[contract.FaultStory](ctx, c, "POST", faultAt(id, "notes"), contract.FaultNote{Note: note})
}

// MuteFault plans work where a fault is: nobody is told of it meanwhile.
func (c *Client) MuteFault(ctx context.Context, id int64, in contract.PlannedWorkInput) (contract.PlannedWork, error) {
	return call[contract.PlannedWork](ctx, c, "POST", faultAt(id, "planned-work"), in)
}

// JudgeFault says whether the cause of a fault was right, or what it was.
func (c *Client) JudgeFault(ctx context.Context, id int64, in contract.FaultJudgementInput) (contract.FaultJudgement, error) {
	return call[contract.FaultJudgement](ctx, c, "PUT", faultAt(id, "judgement"), in)
}

// FaultTimes returns how long faults that opened since a moment took to be noticed and mended, by site, provider or cause.
func (c *Client) FaultTimes(ctx context.Context, by string, since time.Time) ([]contract.FaultTimes, error) {
	moment := ""
	if !since.IsZero() {
		moment = since.UTC().Format(time.RFC3339)
	}
	return call[[]contract.FaultTimes](ctx, c, "GET", "/faults/times"+query("by", by, "since", moment), nil)
}

// PlannedWork lists planned work.
func (c *Client) PlannedWork(ctx context.Context) ([]contract.PlannedWork, error) {
	return call[[]contract.PlannedWork](ctx, c, "GET", "/planned-work", nil)
}

// PlanWork plans work: faults of some sites are not told meanwhile.
func (c *Client) PlanWork(ctx context.Context, in contract.PlannedWorkInput) (contract.PlannedWork, error) {
	return call[contract.PlannedWork](ctx, c, "POST", "/planned-work", in)
}

// EndWork ends planned work, or calls it off.
func (c *Client) EndWork(ctx context.Context, id int64) error {
	_, err := call[struct{}](ctx, c, "DELETE", at("planned-work", strconv.FormatInt(id, 10)), nil)
	return err
}
