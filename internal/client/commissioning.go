package client

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
)

func runAt(code string, part ...string) string {
	return at(append([]string{"sites", code, "commissioning"}, part...)...)
}

// ToCommission lists what is not in use yet, and the step that each part lacks.
func (c *Client) ToCommission(ctx context.Context) ([]contract.ToCommission, error) {
	return call[[]contract.ToCommission](ctx, c, "GET", "/commissioning", nil)
}

// Commissioning returns how the commissioning of a site stands.
func (c *Client) Commissioning(ctx context.Context, code string) (contract.Commissioning, error) {
	return call[contract.Commissioning](ctx, c, "GET", runAt(code), nil)
}

// Commission begins to commission services of a site, or joins those who do.
func (c *Client) Commission(ctx context.Context, code string, in contract.CommissioningInput) (contract.Commissioning, error) {
	return call[contract.Commissioning](ctx, c, "POST", runAt(code), in)
}

// AnswerStep says that a step of a commissioning is done, passed over, or due again.
func (c *Client) AnswerStep(ctx context.Context, code string, in contract.CommissioningAnswer) (contract.Commissioning, error) {
	return call[contract.Commissioning](ctx, c, "POST", runAt(code, "answers"), in)
}

// ProveStep has the agent prove the way in to a service before its device is there.
func (c *Client) ProveStep(ctx context.Context, code, service string) (contract.Proof, error) {
	return call[contract.Proof](ctx, c, "POST", runAt(code, "services", service, "proof"), nil)
}

// EndCommissioning ends the commissioning of a site; its record is kept.
func (c *Client) EndCommissioning(ctx context.Context, code string) (contract.Commissioning, error) {
	return call[contract.Commissioning](ctx, c, "DELETE", runAt(code), nil)
}
