package changes

import (
	"inkpost.example/inkpost/internal/engine/record"
)

// forget drops what is remembered of what is no longer on record. The caller holds the edit lock.
func (ch *Changes) forget(gone record.Gone) {
	ch.Push.Forget(gone)
	ch.Zones.Forget(gone)
	ch.Moves.Forget(gone)
	ch.Verify.Forget(gone)
	ch.SiteSide.Forget(gone)
	ch.Proofs.Forget(gone)
	ch.History.Forget(gone)
	ch.Faults.Forget(gone)
	ch.Runs.Forget(gone)
	ch.Prober.Forget(gone)
}
