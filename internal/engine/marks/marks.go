// Package marks notes the sites of which something is known that was not known before, and what edits touched, for those who keep a copy.
// It owns one set of both for each of them.
//
// Any lock may be held when it is called: it calls nobody.
package marks

import (
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
)

// maxEdits is how many edits are kept apart: of more, the whole record is read again.
const maxEdits = 64

// Marks is the room. The zero value has nobody who keeps a copy. It is safe for concurrent use.
type Marks struct {
	mu   locks.Leaf
	sets map[*Set]struct{}
}

// Set has the sites that were marked, and what edits touched, since they were last taken.
type Set struct {
	of    *Marks
	sites map[int64]struct{}
	edits []record.Touched
}

// Note marks a site.
func (m *Marks) Note(siteID int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for s := range m.sets {
		s.sites[siteID] = struct{}{}
	}
}

// Edited notes what an edit touched that the database and this server's record have.
func (m *Marks) Edited(t record.Touched) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for s := range m.sets {
		if len(s.edits) == maxEdits {
			s.edits = []record.Touched{{Whole: true}}
		}
		s.edits = append(s.edits, t)
	}
}

// Keep returns a set that begins empty. It is to be closed.
func (m *Marks) Keep() *Set {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.sets == nil {
		m.sets = map[*Set]struct{}{}
	}
	s := &Set{of: m, sites: map[int64]struct{}{}}
	m.sets[s] = struct{}{}
	return s
}

// Take returns what was marked, and what edits touched, since the last call.
func (s *Set) Take() (sites map[int64]struct{}, edits []record.Touched) {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	sites, edits = s.sites, s.edits
	s.sites, s.edits = map[int64]struct{}{}, nil
	return sites, edits
}

// Close ends a set.
func (s *Set) Close() {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	delete(s.of.sets, s)
}
