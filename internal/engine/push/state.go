package push

import (
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/store"
)

// key is one name of one remote zone.
type key struct {
	zoneID int64
	name   names.Name
}

// remoteState is the memory of the table remote_name, and of primaries that do not answer.
type remoteState struct {
	mu      locks.Leaf
	names   map[key]store.RemoteName
	resting map[int64]time.Time // zones whose primary is left alone until then
	trying  map[int64]bool      // of those: one name is being tried
	back    map[int64]bool      // zones whose primary answers again, which nobody has acted on yet
	next    map[key]time.Time   // when a name is tried next
}

// setNext notes when a name is tried next; never for the zero time.
func (b *remoteState) setNext(k key, at time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.next == nil {
		b.next = map[key]time.Time{}
	}
	if b.next[k] = at; at.IsZero() {
		delete(b.next, k)
	}
}

func (b *remoteState) nextTry(k key) time.Time {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.next[k]
}

// recovered reports, once, whether a zone's primary answers again.
func (b *remoteState) recovered(zoneID int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	is := b.back[zoneID]
	delete(b.back, zoneID)
	return is
}

func (b *remoteState) of(k key) store.RemoteName {
	b.mu.Lock()
	defer b.mu.Unlock()
	n := b.names[k]
	n.ZoneID, n.Name = k.zoneID, k.name
	return n
}

func (b *remoteState) put(n store.RemoteName) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.names[key{n.ZoneID, n.Name}] = n
}

func (b *remoteState) drop(k key) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.names, k)
}

// forgetZones drops what is kept of zones that are no longer on record.
func (b *remoteState) forgetZones(keep func(int64) bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for k := range b.names {
		if !keep(k.zoneID) {
			delete(b.names, k)
		}
	}
}

func (b *remoteState) list(zoneID int64) []store.RemoteName {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []store.RemoteName
	for k, n := range b.names {
		if k.zoneID == zoneID {
			out = append(out, n)
		}
	}
	return out
}

// enter asks whether a zone's primary may be talked to now; where it does not answer, one name at a time finds out.
func (b *remoteState) enter(zoneID int64, now time.Time) (wait time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	until, resting := b.resting[zoneID]
	switch {
	case !resting:
		return 0
	case until.After(now):
		return until.Sub(now)
	case b.trying[zoneID]:
		return firstRetry
	}
	b.trying[zoneID] = true
	return 0
}

// leave notes how talking to a zone's primary went: rest is how long it is left alone.
func (b *remoteState) leave(zoneID int64, now time.Time, rest time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.trying, zoneID)
	if rest == 0 {
		if _, rested := b.resting[zoneID]; rested {
			if b.back == nil {
				b.back = map[int64]bool{}
			}
			b.back[zoneID] = true
		}
		delete(b.resting, zoneID)
		return
	}
	b.resting[zoneID] = now.Add(rest)
}

// wake lets a zone's primary be talked to at once.
func (b *remoteState) wake(zoneID int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.resting, zoneID)
}
