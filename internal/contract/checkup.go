package contract

import "inkpost.example/inkpost/internal/core/checkup"

// CheckupNews is one line of a checkup: one thing that was looked at, or, at the end, how the worst of them stands.
type CheckupNews struct {
	Check *checkup.Point   `json:"check,omitempty"`
	Worst checkup.Standing `json:"worst,omitempty"`
}
