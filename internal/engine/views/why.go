package views

import (
	"context"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/store"
)

// Why returns how the causes of what fails at a site were weighed.
func (vw *Views) Why(code string) (contract.Why, error) {
	p, err := vw.FindSite(code)
	if err != nil {
		return contract.Why{}, err
	}
	out := contract.Why{Site: p.Code, Rankings: diagnose.Rankings(vw.Rooms.Evidence(p, vw.Now()))}
	if out.Rankings == nil {
		out.Rankings = []diagnose.Ranking{}
	}
	return out, nil
}

// Causes lists all causes.
func (vw *Views) Causes() []contract.Cause {
	var out []contract.Cause
	for _, c := range causes.Table() {
		out = append(out, causeView(c))
	}
	return out
}

// Cause returns one cause. Error: store.Missing.
func (vw *Views) Cause(slug string) (contract.Cause, error) {
	c, ok := causes.Find(causes.Slug(slug))
	if !ok {
		return contract.Cause{}, store.Missing{Kind: "cause", Name: slug}
	}
	return causeView(c), nil
}

func causeView(c causes.Cause) contract.Cause {
	return contract.Cause{Cause: c.Slug, Hop: c.Hop, Takes: c.Scope.String(), Actor: c.Actor, Who: c.Actor.Words(), Soon: c.Soon,
		Summary: causes.Fill(c.So, nil), Next: causes.Fill(c.Next, nil), Predicts: c.InWords()}
}

// Accuracy counts how often each cause was told, and how often that was right. Error: that of the database.
func (vw *Views) Accuracy(ctx context.Context) ([]contract.Accuracy, error) {
	list, err := vw.Store.FaultsTold(ctx)
	out := []contract.Accuracy{}
	for _, t := range list {
		i := slices.IndexFunc(out, func(a contract.Accuracy) bool { return a.Cause == causes.Slug(t.Cause) })
		if i < 0 {
			i = len(out)
			out = append(out, contract.Accuracy{Cause: causes.Slug(t.Cause)})
		}
		a := &out[i]
		a.Told, a.Judged, a.Right = a.Told+t.Faults, a.Judged+t.Judged, a.Right+t.Right
		if wrong := t.Judged - t.Right; wrong > 0 {
			a.Instead = append(a.Instead, contract.Instead{Cause: causes.Slug(t.Actual), Count: wrong})
		}
	}
	return out, err
}
