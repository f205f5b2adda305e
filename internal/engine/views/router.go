package views

import (
	"context"
	"maps"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

// gatewayView is what a router said of itself. Lengths of time are as of when it was asked.
func gatewayView(w site.RouterWord) *contract.GatewayWord {
	before := func(t time.Time) float64 {
		if t.IsZero() {
			return 0
		}
		return w.At.Sub(t).Seconds()
	}
	out := &contract.GatewayWord{At: w.At, UpSeconds: before(w.Began), LineUpSeconds: before(w.LineUp), Line: w.Line, Trouble: w.Trouble}
	for _, name := range slices.Sorted(maps.Keys(w.Ports)) {
		p := w.Ports[name]
		one := contract.ListedPort{Service: name, Description: p.Description, LeaseSeconds: p.Lease.Seconds()}
		if p.To.IsValid() {
			one.To = p.To.String()
		}
		out.Ports = append(out.Ports, one)
	}
	return out
}

// Scan makes an agent of the site look at its devices now. Error: ErrNoAgent.
func (vw *Views) Scan(ctx context.Context, code string) ([]contract.DeviceReport, error) {
	p, err := vw.FindSite(code)
	if err != nil {
		return nil, err
	}
	if err := vw.SiteSide.Scan(ctx, p.ID); err != nil {
		return nil, err
	}
	return vw.DeviceReports(code)
}
