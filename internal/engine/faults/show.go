package faults

import (
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/store"
)

// Paths returns the paths of a site's last diagnosis; nil where all is well, or none was made.
func (b *Board) Paths(siteID int64) []diagnose.Path {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.diagnoses[siteID].Paths
}

// Show takes over what another server has open at a site, or of areas where siteID is 0, and the paths of its diagnosis.
func (b *Board) Show(siteID int64, open []store.Fault, paths []diagnose.Path) {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := make([]Fault, len(open))
	for i, f := range open {
		b.numbers++
		list[i] = Fault{Fault: f, nr: b.numbers, written: told(f)}
	}
	if b.faults[siteID] = list; len(list) == 0 {
		delete(b.faults, siteID)
	}
	delete(b.stale, siteID)
	if b.diagnoses[siteID] = (Diagnosis{Paths: paths}); paths == nil {
		delete(b.diagnoses, siteID)
	}
}
