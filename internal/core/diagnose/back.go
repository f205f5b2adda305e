package diagnose

import (
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// backLongEnough reports whether services of a link have answered for so long that whoever announces its address would have been heard:
// where nothing came through for a while, silence counts from when something did again.
func (e Evidence) backLongEnough(l LinkEvidence) bool {
	var since time.Time
	for _, s := range e.Services {
		if s.OnLink == l.Label && s.proven() && s.Outcome.Good() && (since.IsZero() || s.Turned.Before(since)) {
			since = s.Turned
		}
	}
	return wan.Overdue(since, since, e.Now, l.Every)
}

// lookedLately is how long before a move a look from inside counts that no other has followed.
const lookedLately = 2 * time.Minute

// onlyMoved reports whether a service seems to fail since later than a look from inside only because its link has moved: what fails is
// counted anew at another address, and nothing has changed on the LAN.
func (s ServiceEvidence) onlyMoved(l LinkEvidence, looked time.Time) bool {
	return !s.Turned.Before(l.Since) && s.Turned.Sub(l.Since) < lookedLately && looked.After(l.Since.Add(-lookedLately))
}
