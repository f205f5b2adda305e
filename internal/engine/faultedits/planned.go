package faultedits

import (
	"cmp"
	"context"
	"errors"
	"strconv"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// holds reports whether whoever asks sees all sites that a scope covers: what somebody plans concerns none of those that they do not see.
func (e *FaultEdits) holds(ctx context.Context, s fault.Scope) bool {
	return rooms.SightOf(ctx).All() || s.Site != "" || !e.anySite(func(place fault.Place) bool {
		return s.Covers(place) && !rooms.SightOf(ctx).Sees(place.Tags)
	})
}

// PlanWork plans work: at the sites that it names, or, opened from a fault, where that is. Errors: site.Flaws, store.Missing, that of the
// database.
func (e *FaultEdits) PlanWork(ctx context.Context, in contract.PlannedWorkInput, faultID int64, by string) (contract.PlannedWork, error) {
	w := fault.Work{Scope: in.Scope, Starts: in.Starts, Minutes: in.Minutes, Zone: cmp.Or(in.Zone, "UTC"),
		Repeats: cmp.Or(in.Repeats, fault.Once), Last: in.Last, Reason: in.Reason, By: by, FaultID: faultID}
	if w.Starts.IsZero() {
		w.Starts = e.Rooms.Now()
	}
	if faultID != 0 {
		f, err := e.FindFault(ctx, faultID)
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
	if _, until := w.Window(e.Rooms.Now()); until.IsZero() {
		return contract.PlannedWork{}, site.Flaws{{Field: "starts", Detail: "it would be over already"}}
	}
	var siteID int64
	if w.Site != "" {
		p, err := e.Rooms.SiteSeen(ctx, w.Site)
		if err != nil {
			return contract.PlannedWork{}, err
		}
		siteID, w.Site = p.ID, p.Code
	}
	var flaws site.Flaws
	if w.Tag != "" && !e.anySite(func(place fault.Place) bool { return fault.Scope{Tag: w.Tag}.Covers(place) }) {
		flaws.Note("tag", errors.New("no site is tagged "+w.Tag))
	}
	if w.Provider != "" && !e.anySite(func(place fault.Place) bool { return fault.Scope{Provider: w.Provider}.Covers(place) }) {
		flaws.Note("provider", errors.New("no link is of "+w.Provider))
	}
	if len(flaws) == 0 && !e.holds(ctx, w.Scope) {
		flaws.Note("site", errors.New("that concerns sites that you do not see; name a site, or a tag or provider of yours alone"))
	}
	if err := flaws.Err(); err != nil {
		return contract.PlannedWork{}, err
	}
	w, err := e.Rooms.Faults.Plan(ctx, siteID, w)
	return e.WorkView(w), err
}

func (e *FaultEdits) anySite(is func(fault.Place) bool) bool {
	for _, p := range e.Rooms.Record.Sites() {
		if is(e.Rooms.Faults.Place(p)) {
			return true
		}
	}
	return false
}

// EndWork ends planned work. Errors: store.Missing, that of the database.
func (e *FaultEdits) EndWork(ctx context.Context, id int64) error {
	for _, w := range e.Rooms.Faults.Work() {
		if w.ID == id && (!e.SeesWork(ctx, w) || !e.holds(ctx, w.Scope)) {
			return store.Missing{Kind: "planned work", Name: strconv.FormatInt(id, 10)}
		}
	}
	return e.Rooms.Faults.EndWork(ctx, id)
}
