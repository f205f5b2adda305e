package speak

import (
	"inkpost.example/inkpost/internal/core/probe"
)

// Attempts describes the tries of a round, for people.
func Attempts(out Round) []probe.Attempt {
	var list []probe.Attempt
	for _, t := range out.Tries {
		a := probe.Attempt{Target: t.Target.String(), Transport: t.Transport, Outcome: t.Outcome, TookUS: t.Took.Microseconds(),
			Message: t.Message}
		if out.Inside {
			a.Outcome, a.Message = probe.Skipped, Insider
		}
		if t.From.IsValid() {
			a.From = t.From.String()
		}
		for _, s := range t.Steps {
			a.Steps = append(a.Steps, probe.Step{Name: s.Name, AtUS: s.At.Microseconds(), Words: s.Words})
		}
		list = append(list, a)
	}
	return list
}
