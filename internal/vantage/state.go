package vantage

import (
	"path/filepath"

	"inkpost.example/inkpost/internal/statefile"
)

// state is what a vantage point keeps between runs.
type state struct {
	Server  string `json:"server"`
	Key     string `json:"key"`
	Vantage string `json:"vantage"`
}

func stateFile(dir string) string { return filepath.Join(dir, "vantage.json") }

// Enrolled reports whether a vantage point has enrolled from this folder.
func Enrolled(dir string) bool { return statefile.Exists(stateFile(dir)) }
