package diagnose

import (
	"slices"

	"inkpost.example/inkpost/internal/core/probe"
)

// begun reports whether a problem is one of something in use. A service that was never proven, and a link from which nothing was ever
// heard, are to be commissioned.
func (e Evidence) begun(f Finding) bool {
	of := e.where(func(s ServiceEvidence) bool { return slices.Contains(f.Services, s.Name) })
	for _, l := range e.Links {
		if f.Cause == "address-unknown" && f.Subject == "link "+l.Label {
			if !l.Heard.IsZero() || !l.Since.IsZero() || len(refusals(l, 1)) > 0 || l.Held != "" {
				return true
			}
			of = e.where(func(s ServiceEvidence) bool { return s.OnLink == l.Label })
			return slices.ContainsFunc(of, ServiceEvidence.inUse)
		}
	}
	return len(of) == 0 || slices.ContainsFunc(of, ServiceEvidence.inUse)
}

// inUse reports whether it is a fault that the service is not as expected. A port that must be closed is in use from the first.
func (s ServiceEvidence) inUse() bool { return !s.Awaited || s.Expected == probe.ExpectClosed }
