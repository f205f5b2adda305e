package rooms

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/probing"
)

// Of an outage, the first service is found dark before the others are probed again: those do not show that the line works.
func TestALinkIsDarkSinceItsFirstServiceWas(t *testing.T) {
	cut := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	answers := func(at time.Time) probing.Status {
		return probing.Status{State: probe.StateReachable, View: probe.View{Outcome: probe.Answered}, Probed: at}
	}
	silent := func(since time.Time) probing.Status {
		return probing.Status{State: probe.StateUnreachable, View: probe.View{Outcome: probe.Silent}, Turned: since, Probed: since}
	}
	for _, c := range []struct {
		why      string
		services []probing.Status
		since    time.Time
		dark     bool
	}{
		{why: "nothing is exposed"},
		{"all answer", []probing.Status{answers(cut), answers(cut.Add(time.Minute))}, time.Time{}, false},
		{"the other was not probed since", []probing.Status{silent(cut), answers(cut.Add(-time.Second))}, cut, true},
		{"the other has answered since", []probing.Status{silent(cut), answers(cut.Add(time.Second))}, cut, false},
		{"all are silent", []probing.Status{silent(cut.Add(time.Minute)), silent(cut)}, cut, true},
	} {
		since, dark := darkOf(slices.Values(c.services))
		require.Equal(t, c.dark, dark, c.why)
		if dark {
			require.Equal(t, c.since, since, c.why)
		}
	}
}
