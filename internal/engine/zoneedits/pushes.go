package zoneedits

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// PushZone pushes all names of a remote zone to its primary now, including those that it already has. The first call starts pushing of the
// zone.
func (e *ZoneEdits) PushZone(ctx context.Context, apex string) ([]contract.Push, error) {
	z, err := e.RemoteZone(apex)
	if err != nil {
		return nil, err
	}
	if !z.Pushing {
		if err := e.Change(ctx, func() (changes.Edit, error) {
			return changes.Edit{Words: "names of zone " + apex + " go to its primary from now on",
				Touched: &record.Touched{Zones: []int64{z.ID}},
				Write:   func(ctx context.Context, tx *store.Store) error { return tx.StartPushing(ctx, z.ID) }}, nil
		}); err != nil {
			return nil, err
		}
	}
	e.Push.PushAll(e.Record.Zone(z.ID))
	return e.Pushes(apex)
}
