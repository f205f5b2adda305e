package engine

import (
	"inkpost.example/inkpost/internal/engine/record"
)

// forget drops what is remembered of what is no longer on record. The caller holds the edit lock.
func (e *Engine) forget(gone record.Gone) {
	e.push.Forget(gone)
	e.zones.Forget(gone)
	e.moves.Forget(gone)
	e.verify.Forget(gone)
	e.SiteSide.Forget(gone)
	e.history.Forget(gone)

	e.faults.mu.Lock()
	drop(e.faults.open, gone.Sites)
	drop(e.faults.shut, gone.Sites)
	e.faults.mu.Unlock()

	e.prober.Forget(gone)
}

func drop[T any](from map[int64]T, gone map[int64]bool) {
	for id := range gone {
		delete(from, id)
	}
}
