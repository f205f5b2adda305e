package engine

import (
	"maps"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// forgetGone drops what is remembered of sites, links, hostnames, devices and aliases that are no longer on record. The caller holds
// the edit lock.
func (e *Engine) forgetGone() {
	sites, links, hostnames, devices, aliases := map[int64]bool{}, map[int64]bool{}, map[int64]bool{}, map[int64]bool{}, map[int64]bool{}
	for _, p := range e.record.all() {
		sites[p.ID] = true
		for _, l := range p.links {
			links[l.ID] = true
		}
		for _, h := range p.hostnames {
			hostnames[h.ID] = true
		}
		for _, d := range p.devices {
			devices[d.ID] = true
		}
	}
	list, _ := e.record.content()
	for _, a := range list {
		aliases[a.ID] = true
	}
	e.remote.forgetZones(func(id int64) bool { return e.record.zone(id).ID != 0 })

	e.names.mu.Lock()
	maps.DeleteFunc(e.names.given, func(id int64, _ nameState) bool { return !hostnames[id] })
	e.names.mu.Unlock()

	e.aliases.mu.Lock()
	maps.DeleteFunc(e.aliases.given, func(id int64, _ map[place]wan.Pair) bool { return !aliases[id] })
	e.aliases.mu.Unlock()

	e.standings.mu.Lock()
	maps.DeleteFunc(e.standings.links, func(id int64, _ *linkStanding) bool { return !links[id] })
	for _, times := range []map[int64]time.Time{e.failover.down, e.failover.working, e.failover.tried} {
		maps.DeleteFunc(times, func(id int64, _ time.Time) bool { return !links[id] })
	}
	for id := range e.standings.dirty {
		if !links[id] {
			delete(e.standings.dirty, id)
		}
	}
	e.standings.mu.Unlock()

	e.heard.mu.Lock()
	maps.DeleteFunc(e.heard.at, func(id int64, _ time.Time) bool { return !links[id] })
	maps.DeleteFunc(e.heard.dirty, func(id int64, _ time.Time) bool { return !links[id] })
	e.heard.mu.Unlock()

	e.yard.mu.Lock()
	for id := range e.yard.seen {
		if !devices[id] {
			delete(e.yard.seen, id)
			delete(e.yard.dirty, id)
		}
	}
	for id := range e.yard.proofs {
		if !links[id] {
			delete(e.yard.proofs, id)
		}
	}
	for id := range e.yard.checks {
		if !links[id] {
			delete(e.yard.checks, id)
			delete(e.yard.due, id)
		}
	}
	e.yard.mu.Unlock()

	e.patterns.mu.Lock()
	maps.DeleteFunc(e.patterns.changes, func(id int64, _ []time.Time) bool { return !links[id] })
	maps.DeleteFunc(e.patterns.learned, func(id int64, _ learned) bool { return !links[id] })
	e.patterns.mu.Unlock()

	e.faults.mu.Lock()
	for id := range e.faults.open {
		if !sites[id] {
			delete(e.faults.open, id)
			delete(e.faults.shut, id)
		}
	}
	e.faults.mu.Unlock()

	e.prober.doors.mu.Lock()
	maps.DeleteFunc(e.prober.doors.closed, func(id int64, _ closedDoor) bool { return !links[id] })
	e.prober.doors.mu.Unlock()

	e.moves.mu.Lock()
	maps.DeleteFunc(e.moves.open, func(id int64, _ *openMove) bool { return !links[id] })
	e.moves.mu.Unlock()
}
