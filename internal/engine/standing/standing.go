// Package standing says in numbers how everything stands at this moment, for OpenMetrics. It owns nothing.
//
// No lock of the engine may be held when it is called.
package standing

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/views"
	"inkpost.example/inkpost/internal/store"
)

// Room is the room.
type Room struct {
	*rooms.Rooms
	Views *views.Views
}

// FaultKind is what faults are counted by.
type FaultKind struct {
	Cause   string
	Serious bool
}

// Numbers are how many there are of each.
type Numbers struct {
	Sites     map[string]int // by what they need
	Agents    map[string]int // by state: heard, or overdue
	Hostnames map[string]int // by state
	Faults    map[FaultKind]int
	Jobs      []store.Jobs
	Pools     map[string]store.Pool
}

// Numbers counts. What the database does not say before ctx ends is left out.
func (r *Room) Numbers(ctx context.Context) Numbers {
	n := Numbers{Sites: map[string]int{}, Agents: map[string]int{}, Hostnames: map[string]int{}, Faults: map[FaultKind]int{},
		Pools: r.Store.Pools()}
	if list, _, err := r.Views.Summaries(ctx, contract.SiteQuery{Limit: 1 << 30}); err == nil {
		for _, s := range list {
			n.Sites[string(s.Need)]++
		}
	}
	if list, _, err := r.Views.Hostnames(ctx, contract.HostnameQuery{}); err == nil {
		for _, h := range list {
			n.Hostnames[string(h.State)]++
		}
	}
	now := r.Now()
	for _, p := range r.Record.Sites() {
		for _, l := range p.Links {
			if report, ok := r.SiteSide.Report(l.ID); !ok || report.Agent == "" {
				continue
			}
			state := "heard"
			if r.LinkEvidence(*l, now).Overdue {
				state = "overdue"
			}
			n.Agents[state]++
		}
	}
	for _, f := range r.Faults.Open(0) {
		n.Faults[FaultKind{string(f.Finding.Cause), f.Finding.Serious()}]++
	}
	n.Jobs, _ = r.Store.Jobs(ctx)
	return n
}
