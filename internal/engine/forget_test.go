package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// remembering is an engine that remembers something of the things with IDs 1 and 2, of which only 1 is on record.
func remembering() *Engine {
	e := &Engine{prober: &prober{}}
	noon := fixedClock()
	e.record.sites = map[int64]premises{1: {Site: site.Site{ID: 1}, links: []*site.Link{{ID: 1}}, hostnames: []site.Hostname{{ID: 1}}, devices: []site.Device{{ID: 1}}}}
	e.record.listed = []int64{1}
	e.record.aliases = []site.Alias{{ID: 1}}
	e.record.zones = map[int64]names.Zone{1: {ID: 1}}
	e.names.given = map[int64]nameState{1: {}, 2: {}}
	e.aliases.given = map[int64]map[place]wan.Pair{1: {}, 2: {}}
	e.standings.links = map[int64]*linkStanding{1: {}, 2: {}}
	e.standings.dirty = map[int64]bool{1: true, 2: true}
	e.failover = failover{down: map[int64]time.Time{1: noon, 2: noon}, working: map[int64]time.Time{1: noon, 2: noon}, tried: map[int64]time.Time{1: noon, 2: noon}}
	e.heard.at, e.heard.dirty = map[int64]time.Time{1: noon, 2: noon}, map[int64]time.Time{1: noon, 2: noon}
	e.yard.seen = map[int64]contract.Sighting{1: {}, 2: {}}
	e.yard.dirty = map[int64]store.Sighting{1: {}, 2: {}}
	e.yard.proofs = map[int64]map[int64]*proof{1: {}, 2: {}}
	e.faults.open = map[int64]map[string]openFault{1: {}, 2: {}}
	e.prober.doors.closed = map[int64]closedDoor{1: {}, 2: {}}
	e.moves.open = map[int64]*openMove{1: {}, 2: {}}
	e.remote.names = map[remoteKey]store.RemoteName{{zoneID: 1}: {}, {zoneID: 2}: {}}
	return e
}

func TestWhatIsGoneFromTheRecordIsForgotten(t *testing.T) {
	e := remembering()
	for range 2 { // the second time there is nothing left to do
		e.forgetGone()
		for what, n := range map[string]int{
			"names.given": len(e.names.given), "aliases.given": len(e.aliases.given), "standings.links": len(e.standings.links), "standings.dirty": len(e.standings.dirty),
			"failover.down": len(e.failover.down), "failover.working": len(e.failover.working), "failover.tried": len(e.failover.tried),
			"heard.at": len(e.heard.at), "heard.dirty": len(e.heard.dirty), "yard.seen": len(e.yard.seen), "yard.dirty": len(e.yard.dirty), "yard.proofs": len(e.yard.proofs),
			"faults.open": len(e.faults.open), "doors": len(e.prober.doors.closed), "moves.open": len(e.moves.open), "remote": len(e.remote.names),
		} {
			require.Equal(t, 1, n, what)
		}
	}
	require.Contains(t, e.names.given, int64(1), "what is on record stays")
}

func TestServicesThatAreGoneAreNotRememberedForEver(t *testing.T) {
	p := posts{given: map[int64]contract.Assignment{1: {ID: 1}}, stamp: map[int64]uint64{1: 1}, siteOf: map[int64]int64{}}
	for id := int64(2); id < droppedMost+10; id++ {
		p.cursor++
		p.stamp[id] = p.cursor
		p.forgetDropped()
	}
	require.LessOrEqual(t, len(p.stamp), droppedMost+1)
	require.Contains(t, p.stamp, int64(1))
	require.Positive(t, p.first, "a vantage point that was away for so long gets everything anew")
}
