package history

import (
	"context"

	"inkpost.example/inkpost/internal/core/ledger"
)

// Availability returns, by service ID, the availability of services over the windows of the ledger, up to now. Error: that of the
// database.
func (h *History) Availability(ctx context.Context, serviceIDs []int64) (map[int64][]ledger.Availability, error) {
	now := h.now()
	windows := ledger.Windows()
	days, err := h.store.Days(ctx, serviceIDs, now.Add(-windows[len(windows)-1].Long))
	if err != nil {
		return nil, err
	}
	out := make(map[int64][]ledger.Availability, len(serviceIDs))
	for _, id := range serviceIDs {
		all := days[id]
		if d, ok := h.buffer.today(id); ok { // ahead of what is written
			n := len(all)
			if n > 0 && all[n-1].Start.Equal(d.Start) {
				all = all[:n-1]
			}
			all = append(all, d)
		}
		for _, w := range windows {
			out[id] = append(out[id], ledger.Over(w, all, now))
		}
	}
	return out, nil
}

// Retain makes the partitions of the month to come and drops those whose time is over. Error: that of the database.
func (h *History) Retain(ctx context.Context) error {
	if err := h.store.EnsurePartitions(ctx, h.now()); err != nil {
		return err
	}
	dropped, err := h.store.DropOldPartitions(ctx, h.now())
	if len(dropped) > 0 {
		h.log.Info("old history dropped", "partitions", dropped)
	}
	return err
}
