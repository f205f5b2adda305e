package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

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
	wanted := e.zones.WantedAll(z)
	all := map[names.Name]bool{}
	for name := range wanted {
		all[name] = true
	}
	for _, n := range e.remote.list(z.ID) {
		all[n.Name] = true
	}
	out := []contract.Push{}
	for name := range all {
		n := e.remote.of(remoteKey{z.ID, name})
		p := contract.Push{Name: name, State: contract.PushTaken, Taken: n.GivenAt, Tries: n.Tries, Detail: n.Detail, Wanted: wordsOf(wanted[name])}
		if !names.SameRecords(n.Given, wanted[name]) {
			p.State = contract.PushWaiting
			p.NextTry = e.remote.nextTry(remoteKey{z.ID, name})
			if n.Problem != "" {
				p.State = n.Problem
			}
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b contract.Push) int { return cmp.Compare(a.Name, b.Name) })
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
	primary, wanted := e.primary(z), e.zones.WantedAll(z)
	var there, want []names.Record
	given := map[names.Name][]names.Record{}
	for _, n := range e.remote.list(z.ID) {
		given[n.Name] = n.Given
		if wanted[n.Name] == nil {
			wanted[n.Name] = nil // to be removed
		}
	}
	for name, records := range wanted {
		want = append(want, records...)
		types := names.OwnedTypes(given[name], records)
		if len(records) > 0 && !slices.Contains(types, "CNAME") {
			types = append(types, "CNAME") // it would stand in the way
		}
		list, err := primary.Records(ctx, name, types)
		if err != nil {
			return nil, PrimaryTrouble{Zone: z.Apex, Primary: z.Primary.String(), Detail: err.Error()}
		}
		there = append(there, list...)
	}
	return append([]names.Difference{}, names.Differences(there, want)...), nil
}

// PrimaryTrouble reports that a remote zone's primary could not be asked.
type PrimaryTrouble struct {
	Zone            names.Name
	Primary, Detail string
}

func (e PrimaryTrouble) Error() string {
	return fmt.Sprintf("the primary %s of zone %s could not be asked: %s", e.Primary, e.Zone, e.Detail)
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
	e.remote.wake(z.ID)
	for _, n := range e.remote.list(z.ID) {
		n.GivenAt, n.Tries, n.Problem, n.Detail = time.Time{}, 0, "", ""
		e.remote.put(n)
	}
	e.pushDue(e.record.Zone(z.ID), true)
	return e.Pushes(apex)
}

func (e *Engine) remoteZone(apex string) (names.Zone, error) {
	z, err := e.Zone(apex)
	if err == nil && z.Kind != names.Remote {
		err = site.Flaws{{Field: "apex", Detail: fmt.Sprintf("zone %s is hosted here: nothing of it is pushed", apex)}}
	}
	return z, err
}
