package faults

import (
	"context"

	"inkpost.example/inkpost/internal/store"
)

// Take notes who has taken a fault up, with a line of its timeline. Errors: store.Missing, that of the database.
func (b *Board) Take(ctx context.Context, id int64, t store.Taking, e store.FaultEvent) error {
	if err := b.store.TakeFault(ctx, id, t, e); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, list := range b.faults {
		for i, f := range list {
			if f.ID == id {
				list[i].Taken = t
			}
		}
	}
	return nil
}
