// Package history keeps what was seen of services: spans of equal outcomes, a rollup of each day with its hours, and the judged state.
// It owns what is not in the database yet and writes it in bulk. It never judges an outcome and never probes.
//
// Any lock may be held when it is called: it calls nobody while it holds its own.
package history

import (
	"context"
	"log/slog"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
	"inkpost.example/inkpost/internal/store"
)

// History is the room. It is safe for concurrent use.
type History struct {
	store  *store.Store
	now    func() time.Time
	log    *slog.Logger
	buffer *buffer
}

// New returns a room that resumes the spans and days which an earlier run began. Error: that of the database.
func New(ctx context.Context, st *store.Store, now func() time.Time, log *slog.Logger) (*History, error) {
	h := &History{store: st, now: now, log: log, buffer: newBuffer()}
	return h, h.Resume(ctx)
}

// Resume takes up the days that the database has: for when somebody else wrote it. Error: that of the database.
func (h *History) Resume(ctx context.Context) error {
	today, err := h.store.Today(ctx, h.now())
	if err == nil {
		h.buffer.resume(today)
	}
	return err
}

// Begin takes up the newest span of a service and vantage point, as it is in the database.
func (h *History) Begin(s ledger.Span) { h.buffer.begin(s) }

// Add enters a result. gap is the longest time between two results that belong to one span; the time since the last result counts as
// spent in state.
func (h *History) Add(r ledger.Result, gap time.Duration, expected probe.Expected, state probe.State) {
	h.buffer.add(r, gap, expected, state)
}

// AddLate enters what a vantage point saw while this server was away: it belongs to the history, not to the present state.
func (h *History) AddLate(r ledger.Result, gap time.Duration) { h.buffer.late(r, gap) }

// SetState writes the judged state of a service soon.
func (h *History) SetState(s store.ServiceState) { h.buffer.state(s) }

// Forget drops what is kept of services that are gone.
func (h *History) Forget(gone record.Gone) {
	for id := range gone.Services {
		h.buffer.forget(id)
	}
}

// ForgetVantage drops the newest spans of a vantage point that was removed.
func (h *History) ForgetVantage(id int64) { h.buffer.forgetVantage(id) }

// Newest returns a service's newest spans from some vantage points as they are now, ahead of what is written.
func (h *History) Newest(serviceID int64, vantages []int64) []ledger.Span {
	return h.buffer.live(serviceID, vantages)
}

// Run writes the history until ctx ends: soon after a span began or a state changed, otherwise every ten seconds, and at the end.
func (h *History) Run(ctx context.Context) {
	tick := rounds.Every(10 * time.Second)
	defer tick.Stop()
	for last := false; !last; {
		grown := false
		select {
		case <-tick.C:
			tick.Begun()
			grown = true
		case <-h.buffer.soon:
			select {
			case <-time.After(gatherDelay):
			case <-ctx.Done():
				last = true
			}
		case <-ctx.Done():
			last = true
		}
		if !h.write(ctx, grown, last) && !last {
			select {
			case <-time.After(2 * time.Second):
			case <-ctx.Done():
			}
		}
	}
}

// gatherDelay is how long spans that begin are batched before being written: many services may change together.
const gatherDelay = 250 * time.Millisecond

// maxRows bounds one statement.
const maxRows = 5000

func (h *History) write(ctx context.Context, grown, all bool) bool {
	left := h.buffer.take(h.now(), grown, all)
	if left.empty() {
		return true
	}
	bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	if all {
		cancel()
		bounded, cancel = context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	}
	defer cancel()
	// The same row may stand in the list twice after a failed write; a statement may touch a row once.
	left.spans, left.days = latest(left.spans), latestDays(left.days)
	failed := func(what string, err error) bool {
		h.buffer.putBack(left)
		h.log.Warn(what+" could not be written; kept for the next try", "error", err)
		return false
	}
	for len(left.spans) > 0 {
		n := min(len(left.spans), maxRows)
		if err := h.store.PutSpans(bounded, left.spans[:n]); err != nil {
			return failed("history", err)
		}
		left.spans = left.spans[n:]
	}
	for len(left.days) > 0 {
		n := min(len(left.days), maxRows)
		if err := h.store.PutDays(bounded, left.days[:n]); err != nil {
			return failed("rollups", err)
		}
		left.days = left.days[n:]
	}
	for len(left.today) > 0 {
		n := min(len(left.today), maxRows)
		if err := h.store.PutToday(bounded, left.today[:n]); err != nil {
			return failed("rollups", err)
		}
		left.today = left.today[n:]
	}
	if err := h.store.PutServiceStates(bounded, left.states); err != nil {
		return failed("states", err)
	}
	return true
}
