package diagnose_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

func TestWhatWasNeverInUseIsNoFault(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	ev := diagnose.Evidence{Now: now, Began: now.Add(-time.Hour), Site: site.Site{Code: "KET-07"},
		Links: []diagnose.LinkEvidence{{Link: site.Link{ID: 1, Label: "main", IPv4: netip.MustParseAddr("198.51.100.7")}}},
		Services: []diagnose.ServiceEvidence{{Service: site.Service{ID: 3, Name: "view", Transport: probe.TCP, ExternalFrom: 8090,
			ExternalTo: 8090,
			Expected:   probe.ExpectReachable, Interval: 60}, OnLink: "main", Awaited: true, State: probe.StateUnreachable,
			Outcome: probe.Silent, InRow: 5,
			Probed: now, Turned: now.Add(-10 * time.Minute)}}}
	found, paths := diagnose.All(ev)
	require.Empty(t, found)
	require.True(t, paths[0].Awaited)
	require.Equal(t, diagnose.AwaitedWords, paths[0].Words)
	require.NotNil(t, paths[0].Finding, "what it lacks is shown all the same")
	for _, s := range paths[0].Stations {
		require.NotEqual(t, diagnose.Broken, s.Verdict, s.Hop)
	}
	ev.Services[0].Awaited = false
	found, paths = diagnose.All(ev)
	require.Len(t, found, 1)
	require.False(t, paths[0].Awaited)

	ev.Services[0].Awaited, ev.Services[0].Expected, ev.Services[0].State, ev.Services[0].Outcome = true, probe.ExpectClosed,
		probe.StateExposed,
		probe.Opened
	found, _ = diagnose.All(ev)
	require.Len(t, found, 1, "a door that must be closed is a fault from the first")
}

func TestALinkFromWhichNothingWasHeardIsNoFault(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	ev := diagnose.Evidence{Now: now, Began: now.Add(-time.Hour), Site: site.Site{Code: "KET-07"},
		Links: []diagnose.LinkEvidence{{Link: site.Link{ID: 1, Label: "main", Agent: true}}}}
	found, _ := diagnose.All(ev)
	require.Empty(t, found)
	ev.Links[0].Refused = []diagnose.RefusedEvidence{{Reason: "its address is private", Count: 1, Last: now}}
	found, _ = diagnose.All(ev)
	require.Len(t, found, 1, "somebody has begun, and is refused")
	ev.Links[0].Refused, ev.Links[0].Heard = nil, now.Add(-time.Hour)
	found, _ = diagnose.All(ev)
	require.Len(t, found, 1)
}
