package rooms

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/engine/record"
)

// Blind implements faults.Host. The server's own vantage point that reaches nothing is told with the rest: somebody has to look at its
// line.
func (r *Rooms) Blind(now time.Time) (out []fault.Blind) {
	unfit := r.Prober.Unfit()
	for _, v := range r.Vantages.List() {
		heard := v.Heard
		if since := r.SiteSide.Since(); since.After(v.Heard) { // nobody could be heard while this server was away
			v.Heard = since
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

// ProbeSoon implements faults.Host.
func (r *Rooms) ProbeSoon(p record.Site, services []string) {
	for _, s := range p.Services {
		if slices.Contains(services, s.Name) {
			r.Prober.Hurry(s.ID, false)
		}
	}
}

// Unrenewed implements faults.Host.
func (r *Rooms) Unrenewed() string {
	if r.Installation.Failing == nil {
		return ""
	}
	return r.Installation.Failing()
}
