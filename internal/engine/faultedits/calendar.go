package faultedits

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

const (
	// calendarBack and calendarAhead are how far a calendar goes.
	calendarBack  = 7 * 24 * time.Hour
	calendarAhead = 90 * 24 * time.Hour
	// windowsMost is how many windows of one planned work a calendar has.
	windowsMost = 100
)

// Calendar lists what is planned and what ends: planned work, planned changes of address, certificates, doors that are open for a while.
func (e *FaultEdits) Calendar(ctx context.Context) (out []contract.CalendarEntry) {
	now := e.Now()
	from, until := now.Add(-calendarBack), now.Add(calendarAhead)
	for _, w := range e.Rooms.Faults.Work() {
		if !e.SeesWork(ctx, w) {
			continue
		}
		for _, one := range w.Windows(from, until, windowsMost) {
			out = append(out, contract.CalendarEntry{ID: fmt.Sprintf("work-%d-%d", w.ID, one[0].Unix()), From: one[0], Until: one[1],
				Title: "Planned work: " + w.Words(), Words: w.Reason})
		}
	}
	for _, p := range e.SitesSeen(ctx) {
		for l := range p.EachLink() {
			if l.ChangeAt.After(from) && l.ChangeAt.Before(until) {
				out = append(out, contract.CalendarEntry{ID: fmt.Sprintf("change-%d-%d", l.ID, l.ChangeAt.Unix()), From: l.ChangeAt,
					Until: l.ChangeAt.Add(time.Hour), Title: fmt.Sprintf("%s: %s changes the address of link %s", p.Code, cmp.Or(l.Provider,
						"the provider"), l.Label)})
			}
		}
	}
	for _, x := range e.Expiring(until) {
		if p, _ := e.FindSite(x.Site); x.At.After(from) && e.Sees(ctx, p.ID) {
			out = append(out, contract.CalendarEntry{ID: fmt.Sprintf("ends-%s-%d", x.Site, x.At.Unix()), From: x.At, Until: x.At,
				Title: fmt.Sprintf("%s: %s ends", x.Site, x.What)})
		}
	}
	slices.SortFunc(out, func(a, b contract.CalendarEntry) int { return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.ID, b.ID)) })
	return out
}
