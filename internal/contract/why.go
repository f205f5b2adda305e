package contract

import (
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

// Why is how the causes of what fails at a site were weighed, all of them.
type Why struct {
	Site     string             `json:"site"`
	Rankings []diagnose.Ranking `json:"rankings"`
}

// Cause is a cause of faults, and what it predicts.
type Cause struct {
	Cause    causes.Slug         `json:"cause"`
	Hop      diagnose.Hop        `json:"hop"`
	Takes    string              `json:"takes"` // how much of a site it takes with it
	Actor    causes.Actor        `json:"actor"`
	Who      string              `json:"who"`
	Soon     bool                `json:"can_wait,omitempty"`
	Summary  string              `json:"summary"`
	Next     string              `json:"next_step"`
	Predicts []causes.Prediction `json:"predicts,omitempty"` // none of a cause that is seen directly
}

// Accuracy is how often a cause was told, and how often people said that it was right.
type Accuracy struct {
	Cause  causes.Slug `json:"cause"`
	Told   int         `json:"told"`
	Judged int         `json:"judged"`
	Right  int         `json:"right"`
	// Instead counts what it was, where it was not right; "" stands for something that the table does not have.
	Instead []Instead `json:"instead,omitempty"`
}

// Instead is what faults were that had been told as something else.
type Instead struct {
	Cause causes.Slug `json:"cause"`
	Count int         `json:"count"`
}
