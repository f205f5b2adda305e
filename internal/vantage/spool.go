package vantage

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/statefile"
)

// spool holds outcomes until the server has them; the oldest is lost first.
type spool struct {
	path string
	soon chan struct{}

	mu   sync.Mutex
	list []contract.OutcomeReport
}

const (
	maxSpool  = 100_000
	maxBatch  = 2000
	spoolFile = "spool.json"
)

func openSpool(dir string) (*spool, error) {
	s := &spool{path: filepath.Join(dir, spoolFile), soon: make(chan struct{}, 1)}
	doc, err := os.ReadFile(s.path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	_ = json.Unmarshal(doc, &s.list) // a file that was cut short is lost history, no reason to stop
	return s, os.Remove(s.path)
}

func (s *spool) add(o contract.OutcomeReport, now bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = append(s.list, o)
	s.bound()
	if now || len(s.list) >= maxBatch {
		select {
		case s.soon <- struct{}{}:
		default:
		}
	}
}

func (s *spool) bound() {
	if over := len(s.list) - maxSpool; over > 0 {
		s.list = append(s.list[:0:0], s.list[over:]...)
	}
}

func (s *spool) take() []contract.OutcomeReport {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := min(len(s.list), maxBatch)
	out := s.list[:n:n]
	s.list = s.list[n:]
	return out
}

func (s *spool) putBack(list []contract.OutcomeReport) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = append(list, s.list...)
	s.bound()
}

func (s *spool) len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.list)
}

// save keeps what waits on disk; where nothing does, no file is left.
func (s *spool) save() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.list) == 0 {
		if err := os.Remove(s.path); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	doc, err := json.Marshal(s.list)
	if err != nil {
		return err
	}
	return statefile.Write(s.path, doc)
}
