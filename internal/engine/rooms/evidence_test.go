package rooms

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/probing/seen"
)

// Of an outage, the first service is found dark before the others are probed again: those do not show that the line works.
func TestALinkIsDarkSinceItsFirstServiceWas(t *testing.T) {
	cut := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	answers := func(at time.Time) seen.Status {
		return seen.Status{State: probe.StateReachable, View: probe.View{Outcome: probe.Answered}, Probed: at}
	}
	silent := func(since time.Time) seen.Status {
		return seen.Status{State: probe.StateUnreachable, View: probe.View{Outcome: probe.Silent, Since: since}, Probed: since}
	}
	for _, c := range []struct {
		why      string
		services []seen.Status
		since    time.Time
		dark     bool
	}{
		{why: "nothing is exposed"},
		{"all answer", []seen.Status{answers(cut), answers(cut.Add(time.Minute))}, time.Time{}, false},
		{"the other was not probed since", []seen.Status{silent(cut), answers(cut.Add(-time.Second))}, cut, true},
		{"the other has answered since", []seen.Status{silent(cut), answers(cut.Add(time.Second))}, cut, false},
		{"all are silent", []seen.Status{silent(cut.Add(time.Minute)), silent(cut)}, cut, true},
	} {
		since, dark := darkOf(slices.Values(c.services))
		require.Equal(t, c.dark, dark, c.why)
		if dark {
			require.Equal(t, c.since, since, c.why)
		}
	}
}
