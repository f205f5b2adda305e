package vantage

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
)

// state is what a vantage point keeps between runs.
type state struct {
	Server  string `json:"server"`
	Key     string `json:"key"`
	Vantage string `json:"vantage"`
}

const stateFile = "vantage.json"

// Enrolled says whether a vantage point has enrolled from this folder.
func Enrolled(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, stateFile))
	return err == nil
}

func readState(dir string) (state, error) {
	var s state
	doc, err := os.ReadFile(filepath.Join(dir, stateFile))
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(doc, &s); err != nil {
		return s, fmt.Errorf("%s cannot be read: %w; remove it and enrol again", filepath.Join(dir, stateFile), err)
	}
	return s, nil
}

func (s state) write(dir string) error {
	doc, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return writeWhole(filepath.Join(dir, stateFile), doc)
}

// writeWhole writes a file that only its owner can read, whole or not at all.
func writeWhole(path string, doc []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	next := path + ".new"
	if err := os.WriteFile(next, doc, 0o600); err != nil {
		_ = os.Remove(next)
		return err
	}
	return os.Rename(next, path)
}
