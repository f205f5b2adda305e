package agent

import (
	"encoding/json"
	"fmt"
	"net/netip"
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
	// Last is where the server's name led when it was last resolved.
	Last []netip.Addr `json:"last,omitempty"`
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
	doc, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return writeWhole(filepath.Join(dir, stateFile), doc)
}

// writeWhole writes a file that only its owner can read, whole or not at all: a full disk leaves the one before.
func writeWhole(path string, doc []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	next := path + ".new"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(doc)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		_ = os.Remove(next)
		return err
	}
	return os.Rename(next, path)
}
