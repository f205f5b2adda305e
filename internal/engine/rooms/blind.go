package rooms

import (
	"time"

	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/pace"
)

// Blind implements faults.Host. The server's own vantage point that reaches nothing is told with the rest: somebody has to look at its
// line.
func (r *Rooms) Blind(now time.Time) (out []fault.Blind) {
	unfit := r.Prober.Unfit()
	for _, v := range r.Vantages.List() {
		heard := v.Heard
		if r.Started.After(v.Heard) { // nobody could be heard while this server was away
			v.Heard = r.Started
		}
		switch {
		case !v.Own && v.Enrolled.IsZero():
		case v.Away(now):
			out = append(out, fault.Blind{Vantage: v.Name, Why: "it was last heard " + pace.Length(now.Sub(heard)) + " ago"})
		case unfit[v.ID] != "":
			out = append(out, fault.Blind{Vantage: v.Name, Why: unfit[v.ID]})
		}
	}
	return out
}

// Unrenewed implements faults.Host.
func (r *Rooms) Unrenewed() string {
	if r.Installation.Failing == nil {
		return ""
	}
	return r.Installation.Failing()
}
