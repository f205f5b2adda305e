package client

import (
	"context"
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

// Tasks asks, with an agent's key, what is to be done at the site. If that is what the agent already has, by its version, the server
// answers only after wait.
func (c *Client) Tasks(ctx context.Context, have string, wait time.Duration) (contract.AgentTasks, error) {
	return call[contract.AgentTasks](ctx, c, "GET",
		fmt.Sprintf("/agent/tasks?have=%s&wait_seconds=%d", have, int((wait+time.Second-1)/time.Second)), nil)
}

// ReportLAN tells, with an agent's key, what the devices on record look like from inside.
func (c *Client) ReportLAN(ctx context.Context, in contract.LANReport) error {
	_, err := call[nothing](ctx, c, "POST", "/agent/lan", in)
	return err
}

// TellProof tells, with an agent's key, how a path proof goes.
func (c *Client) TellProof(ctx context.Context, id int64, in contract.ProofNews) error {
	_, err := call[nothing](ctx, c, "POST", fmt.Sprintf("/agent/proofs/%d", id), in)
	return err
}

// LAN returns what an agent last saw of a site's devices; with fresh, it is asked to look now.
func (c *Client) LAN(ctx context.Context, site string, fresh bool) ([]contract.DeviceReport, error) {
	method, path := "GET", at("sites", site, "lan")
	if fresh {
		method = "POST"
	}
	return call[[]contract.DeviceReport](ctx, c, method, path, nil)
}

// Prove asks whether a site's router passes a port on to the agent's machine.
func (c *Client) Prove(ctx context.Context, site string, in contract.ProofInput) (contract.Proof, error) {
	return call[contract.Proof](ctx, c, "POST", at("sites", site, "proofs"), in)
}

// NextKey gets, with an agent's key, the one that takes its place.
func (c *Client) NextKey(ctx context.Context) (contract.NextKey, error) {
	return call[contract.NextKey](ctx, c, "POST", "/agent/key", nil)
}

// RotateKey has an agent take another key.
func (c *Client) RotateKey(ctx context.Context, id int64) error {
	_, err := call[nothing](ctx, c, "POST", fmt.Sprintf("/keys/%d/rotation", id), nil)
	return err
}
