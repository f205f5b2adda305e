package views

import (
	"context"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
)

// PlannedWork lists planned work, the earliest first.
func (vw *Views) PlannedWork(ctx context.Context) []contract.PlannedWork {
	out := []contract.PlannedWork{}
	for _, w := range vw.Rooms.Faults.Work() {
		if vw.SeesWork(ctx, w) {
			out = append(out, vw.WorkView(w))
		}
	}
	return out
}

// SeesWork reports whether planned work is at a site that whoever asks sees.
func (vw *Views) SeesWork(ctx context.Context, w fault.Work) bool {
	return rooms.SightOf(ctx).All() || slices.ContainsFunc(vw.SitesSeen(ctx), func(p record.Site) bool {
		return w.Scope.Covers(vw.Rooms.Faults.Place(p))
	})
}

// WorkView is planned work as it stands now.
func (vw *Views) WorkView(w fault.Work) contract.PlannedWork {
	now := vw.Now()
	out := contract.PlannedWork{Work: w, Where: w.Words(), Active: w.Covers(now)}
	out.From, out.Until = w.Window(now)
	return out
}
