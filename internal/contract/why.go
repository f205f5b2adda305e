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
