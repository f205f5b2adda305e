// Package statefile writes the files in which the programs that run far away keep what they know.
package statefile

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
)

// Write writes a file that only its owner can read, whole or not at all: a full disk leaves the one before. Error: that of the disk.
func Write(path string, doc []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*") // of its own: two may write at once
	if err != nil {
		return err
	}
	next := f.Name()
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

// WriteState writes a program's state as JSON. Error: that of the disk.
func WriteState(path string, state any) error {
	doc, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return Write(path, doc)
}

// ReadState reads a program's state. Errors: fs.ErrNotExist if there is none, and one that says what to do where it cannot be read.
func ReadState[T any](path string) (state T, err error) {
	doc, err := os.ReadFile(path)
	if err != nil {
		return state, err
	}
	if err := json.Unmarshal(doc, &state); err != nil {
		return state, fmt.Errorf("%s cannot be read: %w; remove it and enrol again", path, err)
	}
	return state, nil
}

// Exists reports whether a file is there.
func Exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
