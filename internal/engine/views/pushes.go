package views

import (
	"cmp"
	"context"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
)

// Pushes lists how each name of a remote zone stands at its primary, by name.
func (vw *Views) Pushes(apex string) ([]contract.Push, error) {
	z, err := vw.RemoteZone(apex)
	if err != nil {
		return nil, err
	}
	out := []contract.Push{}
	for _, n := range vw.Push.States(z) {
		one := contract.Push{Name: n.Name, State: contract.PushTaken, Taken: n.At, Tries: n.Tries, Detail: n.Detail,
			Wanted: wordsOf(n.Wanted), NextTry: n.NextTry}
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
func (vw *Views) ZoneDifferences(ctx context.Context, apex string) ([]names.Difference, error) {
	z, err := vw.RemoteZone(apex)
	if err != nil {
		return nil, err
	}
	return vw.Push.Differences(ctx, z)
}
