package engine

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/site"
)

// Availability tells how the services of a site were over each window, or one of them where service names it.
func (e *Engine) Availability(ctx context.Context, code, service string) ([]contract.ServiceAvailability, error) {
	p, err := e.premises(code)
	if err != nil {
		return nil, err
	}
	list := p.Services
	if service != "" {
		_, s, err := e.service(code, service)
		if err != nil {
			return nil, err
		}
		list = []site.Service{s}
	}
	ids := make([]int64, len(list))
	for i, s := range list {
		ids[i] = s.ID
	}
	now := e.now()
	windows := ledger.Windows()
	days, err := e.store.Days(ctx, ids, now.Add(-windows[len(windows)-1].Long))
	if err != nil {
		return nil, err
	}
	out := []contract.ServiceAvailability{}
	for _, s := range list {
		all := days[s.ID]
		if d, ok := e.prober.book.today(s.ID); ok { // ahead of what is written
			n := len(all)
			if n > 0 && all[n-1].Start.Equal(d.Start) {
				all = all[:n-1]
			}
			all = append(all, d)
		}
		one := contract.ServiceAvailability{Site: p.Code, Service: s.Name, Expected: s.ExpectedAt(now)}
		for _, w := range windows {
			one.Windows = append(one.Windows, ledger.Over(w, all, now))
		}
		out = append(out, one)
	}
	return out, nil
}
