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
