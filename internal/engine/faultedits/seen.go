package faultedits

import (
	"context"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
)

// PlannedWork lists planned work, the earliest first.
func (e *FaultEdits) PlannedWork(ctx context.Context) []contract.PlannedWork {
	out := []contract.PlannedWork{}
	for _, w := range e.Rooms.Faults.Work() {
		if e.SeesWork(ctx, w) {
			out = append(out, e.WorkView(w))
		}
	}
	return out
}

// SeesWork reports whether planned work is at a site that whoever asks sees.
func (e *FaultEdits) SeesWork(ctx context.Context, w fault.Work) bool {
	return rooms.SightOf(ctx).All() || slices.ContainsFunc(e.SitesSeen(ctx), func(p record.Site) bool {
		return w.Scope.Covers(e.Rooms.Faults.Place(p))
	})
}

// WorkView is planned work as it stands now.
func (e *FaultEdits) WorkView(w fault.Work) contract.PlannedWork {
	now := e.Now()
	out := contract.PlannedWork{Work: w, Where: w.Words(), Active: w.Covers(now)}
	out.From, out.Until = w.Window(now)
	return out
}
