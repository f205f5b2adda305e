package views

import (
	"cmp"
	"context"
	"errors"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/site"
)

// PlannedWork lists planned work, the earliest first.
func (vw *Views) PlannedWork() []contract.PlannedWork {
	out := []contract.PlannedWork{}
	for _, w := range vw.Rooms.Faults.Work() {
		out = append(out, vw.workView(w))
	}
	return out
}

func (vw *Views) workView(w fault.Work) contract.PlannedWork {
	now := vw.Now()
	out := contract.PlannedWork{Work: w, Where: w.Words(), Active: w.Covers(now)}
	out.From, out.Until = w.Window(now)
	return out
}

// PlanWork plans work: at the sites that it names, or, opened from a fault, where that is. Errors: site.Flaws, store.Missing, that of the
// database.
func (vw *Views) PlanWork(ctx context.Context, in contract.PlannedWorkInput, faultID int64, by string) (contract.PlannedWork, error) {
	w := fault.Work{Scope: in.Scope, Starts: in.Starts, Minutes: in.Minutes, Zone: cmp.Or(in.Zone, "UTC"),
		Repeats: cmp.Or(in.Repeats, fault.Once), Last: in.Last, Reason: in.Reason, By: by, FaultID: faultID}
	if w.Starts.IsZero() {
		w.Starts = vw.Now()
	}
	if faultID != 0 {
		f, err := vw.findFault(ctx, faultID)
		if err != nil {
			return contract.PlannedWork{}, err
		}
		if w.Scope != (fault.Scope{}) {
			return contract.PlannedWork{}, site.Flaws{{Field: "site", Detail: "the fault says where; leave site, tag and provider out"}}
		}
		w.Scope = fault.Scope{Site: f.Site, Provider: fault.ProviderOf(f.Finding.Subject)}
		if w.Scope == (fault.Scope{}) { // nowhere in particular would be everywhere
			return contract.PlannedWork{}, site.Flaws{{Field: "fault",
				Detail: "it is not at a site or a provider's, so no work can be planned there; acknowledge it instead"}}
		}
	}
	if err := w.Check(); err != nil {
		return contract.PlannedWork{}, err
	}
	if _, until := w.Window(vw.Now()); until.IsZero() {
		return contract.PlannedWork{}, site.Flaws{{Field: "starts", Detail: "it would be over already"}}
	}
	var siteID int64
	if w.Site != "" {
		p, err := vw.FindSite(w.Site)
		if err != nil {
			return contract.PlannedWork{}, err
		}
		siteID, w.Site = p.ID, p.Code
	}
	var flaws site.Flaws
	if w.Tag != "" && !vw.anySite(func(place fault.Place) bool { return fault.Scope{Tag: w.Tag}.Covers(place) }) {
		flaws.Note("tag", errors.New("no site is tagged "+w.Tag))
	}
	if w.Provider != "" && !vw.anySite(func(place fault.Place) bool { return fault.Scope{Provider: w.Provider}.Covers(place) }) {
		flaws.Note("provider", errors.New("no link is of "+w.Provider))
	}
	if err := flaws.Err(); err != nil {
		return contract.PlannedWork{}, err
	}
	w, err := vw.Rooms.Faults.Plan(ctx, siteID, w)
	return vw.workView(w), err
}

func (vw *Views) anySite(is func(fault.Place) bool) bool {
	for _, p := range vw.Record.Sites() {
		if is(vw.Rooms.Faults.Place(p)) {
			return true
		}
	}
	return false
}

// EndWork ends planned work. Errors: store.Missing, that of the database.
func (vw *Views) EndWork(ctx context.Context, id int64) error {
	return vw.Rooms.Faults.EndWork(ctx, id)
}
