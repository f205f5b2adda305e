// Package figures collects what the programs of bench measure: beside what they print, each notes its figures in a file that make bench
// names.
package figures

import (
	"encoding/json"
	"os"
)

// File is the environment variable that names the file: one JSON document a line is appended. Without it nothing is noted.
const File = "INKPOST_FIGURES"

// Figure is one measurement.
type Figure struct {
	Part   string  `json:"part"`
	What   string  `json:"what"`
	Value  float64 `json:"value"`
	Unit   string  `json:"unit"`
	Goal   float64 `json:"goal,omitempty"`   // 0 for none
	Least  bool    `json:"least,omitempty"`  // the goal is the least, else the most
	Beside string  `json:"beside,omitempty"` // what it was measured beside, in the same run
}

// Reached reports whether a figure has reached its goal; one without a goal has.
func (f Figure) Reached() bool {
	return f.Goal == 0 || f.Least && f.Value >= f.Goal || !f.Least && f.Value <= f.Goal
}

// AtMost notes a figure with the most that it may be.
func AtMost(part, what string, value float64, unit string, goal float64, beside string) {
	note(Figure{Part: part, What: what, Value: value, Unit: unit, Goal: goal, Beside: beside})
}

// AtLeast notes a figure with the least that it has to be.
func AtLeast(part, what string, value float64, unit string, goal float64, beside string) {
	note(Figure{Part: part, What: what, Value: value, Unit: unit, Goal: goal, Least: true, Beside: beside})
}

// Plain notes a figure without a goal.
func Plain(part, what string, value float64, unit, beside string) {
	note(Figure{Part: part, What: what, Value: value, Unit: unit, Beside: beside})
}

func note(f Figure) {
	name := os.Getenv(File)
	if name == "" {
		return
	}
	file, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		err = json.NewEncoder(file).Encode(f)
		_ = file.Close()
	}
	if err != nil {
		panic(err) // a figure that is measured and not noted is a figure lost
	}
}
