package views

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/site"
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

// JudgeFault keeps what a person said of a fault's cause. Errors: site.Flaws, store.Missing, that of the database.
func (vw *Views) JudgeFault(ctx context.Context, id int64, in contract.FaultJudgementInput, by string) (contract.FaultJudgement, error) {
	in.Note = strings.TrimSpace(in.Note)
	var f site.Flaws
	if _, known := causes.Find(in.Actual); in.Actual != "" && !known {
		f.Note("actual", fmt.Errorf("%q is no cause; GET /causes lists them", in.Actual))
	}
	if in.Right && in.Actual != "" {
		f.Note("actual", errors.New("is what it was instead; leave it out where the cause was right"))
	}
	if !in.Right && in.Actual == "" && in.Note == "" {
		f.Note("note", errors.New("say what it was: a cause, a note, or both"))
	}
	if n := len([]rune(in.Note)); n > longestNote {
		f.Note("note", fmt.Errorf("has %d characters; %d are allowed", n, longestNote))
	}
	if err := f.Err(); err != nil {
		return contract.FaultJudgement{}, err
	}
	j := store.Judgement{At: vw.Now(), By: by, Right: in.Right, Actual: in.Actual, Note: in.Note}
	return contract.FaultJudgement{FaultJudgementInput: in, By: by, At: j.At}, vw.Store.JudgeFault(ctx, id, j)
}

// longestNote bounds what is said of a fault.
const longestNote = 500

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

func judgedView(j store.Judgement) *contract.FaultJudgement {
	if j.At.IsZero() {
		return nil
	}
	return &contract.FaultJudgement{FaultJudgementInput: contract.FaultJudgementInput{Right: j.Right, Actual: j.Actual, Note: j.Note},
		By: j.By, At: j.At}
}
