package agent

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
)

// state is what an agent keeps between runs.
type state struct {
	Server       string  `json:"server"`
	Key          string  `json:"key"`
	Site         string  `json:"site"`
	Link         string  `json:"link"`
	CheckSeconds float64 `json:"check_seconds"`
}

const stateFile = "agent.json"

// Enrolled says whether an agent has enrolled from this folder.
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

// write keeps the state where only the agent's user can read it. The file appears whole or not at all.
func (s state) write(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	doc, err := json.Marshal(s)
	if err != nil {
		return err
	}
	next := filepath.Join(dir, stateFile+".new")
	if err := os.WriteFile(next, doc, 0o600); err != nil {
		return err
	}
	return os.Rename(next, filepath.Join(dir, stateFile))
}
