package fault

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

func TestACauseIsAnotherOnceItsServicesWereProbedAgain(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	of := func(cause causes.Slug, subject string, services ...string) diagnose.Finding {
		return diagnose.Finding{Cause: cause, Subject: subject, Services: services}
	}
	off, missing := of("device-off", "device recorder", "cameras"), of("forward-missing", "service cameras", "cameras")
	probed := noon.Add(-time.Minute)
	before := map[string]Proposal{}
	hold := func(now time.Time, open []diagnose.Finding, found ...diagnose.Finding) Held {
		h := Hold(open, found, before, func(string) time.Time { return probed }, now)
		before = h.Proposals
		return h
	}
	open := []diagnose.Finding{off}
	h := hold(noon, open, missing)
	require.Equal(t, open, h.Found)
	require.Equal(t, map[string]bool{missing.Key(): true}, h.Dropped)
	require.Equal(t, []string{"cameras"}, h.Ask, "it is probed at once")
	h = hold(noon.Add(2*time.Second), open, missing)
	require.Equal(t, open, h.Found)
	require.Empty(t, h.Ask, "once")
	h = hold(noon.Add(3*time.Second), open, of("wrong-port", "service cameras", "cameras"))
	require.Empty(t, h.Ask, "and not again for each other cause")
	require.Equal(t, open, h.Found)

	probed = noon.Add(4 * time.Second)
	h = hold(noon.Add(5*time.Second), open, missing)
	require.Equal(t, open, h.Found, "it was probed, and then found again")
	probed = noon.Add(6 * time.Second)
	h = hold(noon.Add(7*time.Second), open, missing)
	require.Equal(t, []diagnose.Finding{missing}, h.Found)
	require.Empty(t, h.Proposals)

	probed = noon
	hold(noon, open, missing)
	require.Equal(t, []diagnose.Finding{missing}, hold(noon.Add(heldFor+time.Second), open, missing).Found, "nobody looks any more")

	dark := of("site-dark", "link main", "cameras", "panel")
	both := []diagnose.Finding{off, of("router-refuses", "service panel", "panel")}
	h = hold(noon.Add(time.Hour), both, dark)
	require.Equal(t, both, h.Found, "none of what it would explain is over")
	require.Equal(t, []diagnose.Finding{dark}, hold(noon.Add(2*time.Hour), nil, dark).Found, "what is new is told at once")
	require.Equal(t, []diagnose.Finding{off, dark}, hold(noon.Add(3*time.Hour), open, off, dark).Found, "what stays is not held")
}
