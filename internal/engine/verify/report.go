package verify

import (
	"fmt"
	"slices"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
)

// reporting is whose turn it is to be reported. restless holds the hostnames whose state changes as time passes.
type reporting struct {
	turns    rounds.Turns
	restless map[int64]bool
}

// reportStates reports hostnames whose state is another than at the last report: those of sites where something was learned or is waited
// for, and of the others those whose turn it is.
func (v *Verifier) reportStates(r *reporting) {
	touched, waited := v.names.take(), r.restless
	r.restless = make(map[int64]bool, len(waited))
	turn := r.turns.Next(len(v.record.SiteIDs()))
	of := v.record.Pick(func(place int, p record.Site) bool {
		return turn(place) || slices.ContainsFunc(p.Hostnames, func(h site.Hostname) bool { return touched[h.ID] || waited[h.ID] })
	})
	for p := range of {
		for _, h := range p.Hostnames {
			v.reportState(r, p, h)
		}
	}
}

func (v *Verifier) reportState(r *reporting, p record.Site, h site.Hostname) {
	state := v.State(p, h, v.now())
	if state != names.StatePointed && state != names.StateIdle {
		r.restless[h.ID] = true
	}
	before := v.names.of(h.ID).state
	if state == before {
		return
	}
	v.names.reported(h.ID, state)
	if before != "" || state == names.StateStale {
		v.events.Publish(events.HostnameState, p.Code, string(h.Name), fmt.Sprintf("%s is %s", h.Name, state))
	}
	v.host.Review(p.ID)
}

// reported notes the state that was reported of a hostname.
func (n *nameStates) reported(hostnameID int64, state names.State) {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.given[hostnameID]
	s.state = state
	n.given[hostnameID] = s
}
