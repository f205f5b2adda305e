package history

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
)

// Availability returns, by service ID, the availability of services over the windows of the ledger, up to now. Error: that of the
// database.
func (h *History) Availability(ctx context.Context, serviceIDs []int64) (map[int64][]ledger.Availability, error) {
	now := h.now()
	windows := ledger.Windows()
	days, err := h.days(ctx, serviceIDs, now.Add(-windows[len(windows)-1].Long))
	out := make(map[int64][]ledger.Availability, len(serviceIDs))
	for _, id := range serviceIDs {
		for _, w := range windows {
			out[id] = append(out[id], ledger.Over(w, days[id], now))
		}
	}
	return out, err
}

// Days returns the availability and latency of a service day by day (UTC), the oldest first; days in which nobody looked are left out.
// Error: that of the database.
func (h *History) Days(ctx context.Context, serviceID int64, since time.Time) ([]ledger.Availability, error) {
	now := h.now()
	days, err := h.days(ctx, []int64{serviceID}, since)
	out := []ledger.Availability{}
	for _, d := range days[serviceID] {
		until := d.Start.Add(24*time.Hour - 1)
		if until.After(now) {
			until = now
		}
		out = append(out, ledger.Over(ledger.Window{Label: d.Start.Format(time.DateOnly), Long: until.Sub(d.Start)}, []ledger.Day{d},
			until))
	}
	return out, err
}

// days returns the days of some services, the oldest first.
func (h *History) days(ctx context.Context, serviceIDs []int64, since time.Time) (map[int64][]ledger.Day, error) {
	days, err := h.store.Days(ctx, serviceIDs, since)
	if err != nil {
		return nil, err
	}
	for _, id := range serviceIDs {
		all := days[id]
		if d, ok := h.buffer.today(id); ok { // ahead of what is written
			n := len(all)
			if n > 0 && all[n-1].Start.Equal(d.Start) {
				all = all[:n-1]
			}
			days[id] = append(all, d)
		}
	}
	return days, nil
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
	if err != nil {
		return err
	}
	packed, err := h.store.PackMonths(ctx, h.now())
	if len(packed) > 0 {
		h.log.Info("the history of months that are over is packed", "months", packed)
	}
	return err
}
