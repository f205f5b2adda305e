package faults

import (
	"context"

	"inkpost.example/inkpost/internal/store"
)

// Take changes who has taken a fault up, as store.TakeFault does. Errors: store.Missing, that of the database.
func (b *Board) Take(ctx context.Context, id int64, take func(store.Taking) (store.Taking, store.FaultEvent)) error {
	t, err := b.store.TakeFault(ctx, id, take)
	if err != nil {
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
