package views

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

const (
	// overviewFaults is how many faults the overview shows, and how many parts that are to be commissioned.
	overviewFaults = 100
	// overviewSites is how many sites it shows, those in need first.
	overviewSites = 50
	// groupShown is how many faults of a group it shows.
	groupShown = 20
)

// overviewWait is how long the overview waits for the database.
const overviewWait = 1500 * time.Millisecond

// Overview answers "what needs me now?".
func (vw *Views) Overview(ctx context.Context) (contract.Overview, error) {
	faults, err := vw.Faults(ctx, store.FaultFilter{OpenOnly: true, Limit: 1 << 20})
	if err != nil {
		return contract.Overview{}, err
	}
	// What a provider's fault explains stands with that one.
	faults = slices.DeleteFunc(faults, func(f contract.Fault) bool { return f.Under != 0 && rooms.SightOf(ctx).All() })
	slices.SortStableFunc(faults, func(a, b contract.Fault) int { return rank(a) - rank(b) })
	groups, single := grouped(faults)
	out := contract.Overview{Faults: single[:min(len(single), overviewFaults)], FaultCount: len(faults), Groups: groups,
		ToCommission: vw.ToCommission(ctx)}
	if out.Sites, out.SiteCount, err = vw.Summaries(ctx, contract.SiteQuery{Limit: overviewSites}); err != nil {
		return out, err
	}
	out.AwaitedCount = len(out.ToCommission)
	out.ToCommission = out.ToCommission[:min(out.AwaitedCount, overviewFaults)]
	soon, cancel := context.WithTimeout(ctx, overviewWait)
	defer cancel()
	if out.Moves, err = vw.Moves(soon, contract.MoveQuery{Limit: 8}); err != nil {
		out.Moves = []contract.Move{}
		out.Trouble = "the database does not answer: moves are not shown, and nothing can be changed; names are answered, and what " +
			"is wrong is known"
		return out, nil
	}
	if !vw.Store.Leads() {
		server, since, err := vw.Store.Writer(ctx)
		if err != nil {
			return out, err
		}
		out.Standby = fmt.Sprintf("this server stands by: %s writes since %s", cmp.Or(server, "another one"), since.Format(time.RFC3339))
	}
	return out, nil
}

// grouped puts like faults together.
func grouped(list []contract.Fault) (groups []contract.FaultGroup, single []contract.Fault) {
	like := make([]fault.Like, len(list))
	for i, f := range list {
		like[i] = fault.Like{Cause: f.Finding.Cause, Serious: f.Serious, Site: f.Site + f.Provider}
	}
	alike, alone := fault.Group(like)
	groups, single = []contract.FaultGroup{}, []contract.Fault{}
	for _, ids := range alike {
		one := contract.FaultGroup{Cause: like[ids[0]].Cause, Serious: like[ids[0]].Serious, Count: len(ids)}
		if c, known := causes.Find(one.Cause); known {
			one.Summary = causes.Fill(c.So, nil)
		}
		sites := map[string]bool{}
		for _, i := range ids {
			if sites[like[i].Site] = true; len(one.Faults) < groupShown {
				one.Faults = append(one.Faults, list[i])
			}
		}
		one.Sites = len(sites)
		groups = append(groups, one)
	}
	for _, i := range alone {
		single = append(single, list[i])
	}
	return groups, single
}

// rank puts serious faults first.
func rank(f contract.Fault) int {
	if f.Serious {
		return 0
	}
	return 1
}
