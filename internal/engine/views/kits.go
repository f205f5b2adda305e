package views

import (
	"context"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Kits lists all kits: the ready-made ones, then those that were made here. Error: that of the database.
func (vw *Views) Kits(ctx context.Context) ([]site.Kit, error) {
	own, err := vw.Store.Kits(ctx)
	return append(site.Kits(), own...), err
}

// Kit finds a kit by its name. Errors: store.Missing, that of the database.
func (vw *Views) Kit(ctx context.Context, name string) (site.Kit, error) {
	list, err := vw.Kits(ctx)
	if err != nil {
		return site.Kit{}, err
	}
	for _, k := range list {
		if k.Name == name {
			return k, nil
		}
	}
	return site.Kit{}, store.Missing{Kind: "kit", Name: name}
}
