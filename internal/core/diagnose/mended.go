package diagnose

import (
	"slices"

	"inkpost.example/inkpost/internal/core/probe"
)

// keepTold has a problem that was told stay as it was where something was mended at the site and nobody has looked from outside since: a
// service that answers inside, and failed outside before it did, would look like one whose forward is missing. found and all are changed
// in place.
func (e Evidence) keepTold(told, found, all []Finding) {
	for i, g := range found {
		if !e.mendedUnseen(g) {
			continue
		}
		for _, f := range told {
			if f.Cause == g.Cause || !slices.ContainsFunc(f.Services, func(name string) bool { return slices.Contains(g.Services, name) }) {
				continue
			}
			found[i] = f
			if j := slices.IndexFunc(all, func(x Finding) bool { return x.Key() == g.Key() }); j >= 0 {
				all[j] = f
			}
			break
		}
	}
}

// mendedUnseen reports whether all services of a problem answer inside, and that began after each was last probed.
func (e Evidence) mendedUnseen(f Finding) bool {
	none := true
	for _, s := range e.Services {
		if !slices.Contains(f.Services, s.Name) {
			continue
		}
		seen, ok := e.inside(s.Device)
		if !ok || s.Expected != probe.ExpectReachable || seen.Ports[s.Name] != "open" || !seen.Turned.After(s.Probed) {
			return false
		}
		none = false
	}
	return !none
}
