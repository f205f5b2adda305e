package vantage

import (
	"path/filepath"

	"inkpost.example/inkpost/internal/statefile"
)

// state is what a vantage point keeps between runs.
type state struct {
	Server  string `json:"server"`
	Code    string `json:"code,omitempty"` // the one-time code that the key is for; "" where an older version did not keep it
	Key     string `json:"key"`
	Vantage string `json:"vantage"`
}

func claimFile(dir string) string { return filepath.Join(dir, "claim.json") }

func stateFile(dir string) string { return filepath.Join(dir, "vantage.json") }

// Enrolled reports whether a vantage point has enrolled from this folder.
func Enrolled(dir string) bool { return statefile.Exists(stateFile(dir)) }
