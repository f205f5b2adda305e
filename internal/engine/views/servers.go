package views

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/shards"
)

// Servers lists the servers on the database: the one that writes first, then those that probe for it. Error: that of the database.
func (vw *Views) Servers(ctx context.Context) ([]contract.Server, error) {
	name, since, err := vw.Store.Writer(ctx)
	if err != nil {
		return nil, err
	}
	writer := contract.Server{Name: name, Writes: true, Since: since, Heard: vw.Now(), Of: shards.Count, Shards: shards.Count,
		Rounds: vw.Shards.Kept()}
	out := []contract.Server{}
	ticks := vw.Ticks()
	for _, m := range vw.Shards.List() {
		writer.Shards -= m.Shards
		out = append(out, contract.Server{Name: m.Name, Since: vw.Now().Add(m.Since.Sub(ticks)), Heard: vw.Now().Add(m.Heard.Sub(ticks)),
			Shards: m.Shards, Of: shards.Count, Rounds: m.Made})
	}
	return append([]contract.Server{writer}, out...), nil
}
