// Package marks notes the sites of which something is known that was not known before, for those who keep a copy. It owns one set of sites
// for each of them.
//
// Any lock may be held when it is called: it calls nobody.
package marks

import "inkpost.example/inkpost/internal/engine/locks"

// Marks is the room. The zero value has nobody who keeps a copy. It is safe for concurrent use.
type Marks struct {
	mu   locks.Leaf
	sets map[*Set]struct{}
}

// Set has the sites that were marked since they were last taken.
type Set struct {
	of    *Marks
	sites map[int64]struct{}
}

// Note marks a site.
func (m *Marks) Note(siteID int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for s := range m.sets {
		s.sites[siteID] = struct{}{}
	}
}

// Keep returns a set that begins empty. It is to be closed.
func (m *Marks) Keep() *Set {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.sets == nil {
		m.sets = map[*Set]struct{}{}
	}
	s := &Set{m, map[int64]struct{}{}}
	m.sets[s] = struct{}{}
	return s
}

// Take returns what was marked since the last call.
func (s *Set) Take() map[int64]struct{} {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	out := s.sites
	s.sites = map[int64]struct{}{}
	return out
}

// Close ends a set.
func (s *Set) Close() {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	delete(s.of.sets, s)
}
