package engine

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Pushes lists how each name of a remote zone stands at its primary, by name.
func (e *Engine) Pushes(apex string) ([]contract.Push, error) {
	z, err := e.remoteZone(apex)
	if err != nil {
		return nil, err
	}
	out := []contract.Push{}
	for _, n := range e.push.States(z) {
		one := contract.Push{Name: n.Name, State: contract.PushTaken, Taken: n.At, Tries: n.Tries, Detail: n.Detail, Wanted: wordsOf(n.Wanted), NextTry: n.NextTry}
		if !n.Taken {
			one.State = cmp.Or(string(n.Problem), contract.PushWaiting)
		}
		out = append(out, one)
	}
	return out, nil
}

// wordsOf lists what records say: the addresses of a hostname, where an alias leads.
func wordsOf(records []names.Record) string {
	words := make([]string, len(records))
	for i, r := range records {
		words[i] = r.Data
		if r.Type != "A" && r.Type != "AAAA" {
			words[i] = r.Type + " " + r.Data
		}
	}
	return strings.Join(words, ", ")
}

// ZoneDifferences asks a remote zone's primary what it has, and says what a push would change. Nothing is pushed.
func (e *Engine) ZoneDifferences(ctx context.Context, apex string) ([]names.Difference, error) {
	z, err := e.remoteZone(apex)
	if err != nil {
		return nil, err
	}
	return e.push.Differences(ctx, z)
}

// PushZone has all names of a remote zone go to its primary now, those that it has already among them. The first call lets
// the zone be pushed at all.
func (e *Engine) PushZone(ctx context.Context, apex string) ([]contract.Push, error) {
	z, err := e.remoteZone(apex)
	if err != nil {
		return nil, err
	}
	if !z.Pushing {
		if err := e.change(ctx, func() (edit, error) {
			return edit{words: "names of zone " + apex + " go to its primary from now on", touched: &record.Touched{Zones: []int64{z.ID}}, write: func(ctx context.Context, tx *store.Store) error { return tx.StartPushing(ctx, z.ID) }}, nil
		}); err != nil {
			return nil, err
		}
	}
	e.push.PushAll(e.record.Zone(z.ID))
	return e.Pushes(apex)
}

func (e *Engine) remoteZone(apex string) (names.Zone, error) {
	z, err := e.Zone(apex)
	if err == nil && z.Kind != names.Remote {
		err = site.Flaws{{Field: "apex", Detail: fmt.Sprintf("zone %s is hosted here: nothing of it is pushed", apex)}}
	}
	return z, err
}
