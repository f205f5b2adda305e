package fault_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
)

var morning = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func finding(cause causes.Slug, subject string, services ...string) diagnose.Finding {
	c, ok := causes.Find(cause)
	if !ok {
		panic("no cause " + cause)
	}
	return diagnose.Finding{Cause: cause, Hop: c.Hop, Subject: subject, Services: services}
}

func open(f diagnose.Finding, after time.Duration) fault.Known {
	return fault.Known{Finding: f, Opened: morning.Add(after)}
}

func closed(f diagnose.Finding, after time.Duration) fault.Known {
	return fault.Known{Finding: f, Opened: morning, Closed: morning.Add(after)}
}

func TestWhatBecomesOfFaults(t *testing.T) {
	stopped := finding("service-stopped", "service page", "page")
	camera := finding("service-hung", "service camera", "camera")
	off := finding("device-off", "device recorder", "page", "camera")
	expiring := finding("certificate-expiring", "service page", "page")
	expired := finding("certificate-expired", "service page", "page")
	stale := finding("name-stale", "hostname lamp")
	now := morning.Add(2 * time.Hour)
	for what, c := range map[string]struct {
		known []fault.Known
		found []diagnose.Finding
		steps []fault.Step
	}{
		"nothing": {},
		"a new one": {found: []diagnose.Finding{stopped},
			steps: []fault.Step{{Kind: fault.Opened, Of: -1, Found: 0, Into: -1}}},
		"it stays": {known: []fault.Known{open(stopped, 0)}, found: []diagnose.Finding{stopped},
			steps: []fault.Step{{Kind: fault.Stays, Of: 0, Found: 0, Into: -1}}},
		"over": {known: []fault.Known{open(stopped, 0)},
			steps: []fault.Step{{Kind: fault.Closed, Of: 0, Found: -1, Into: -1}}},
		"explained otherwise": {known: []fault.Known{open(stopped, 0)}, found: []diagnose.Finding{off},
			steps: []fault.Step{{Kind: fault.Changed, Of: 0, Found: 0, Into: -1}}},
		"one explains two: the older goes on": {known: []fault.Known{open(camera, time.Minute), open(stopped, 0)},
			found: []diagnose.Finding{off},
			steps: []fault.Step{{Kind: fault.Changed, Of: 1, Found: 0, Into: -1}, {Kind: fault.Joined, Of: 0, Found: -1, Into: 0}}},
		"what has its own cause keeps it, although another is like it": {known: []fault.Known{open(stopped, 0), open(off, time.Minute)},
			found: []diagnose.Finding{off, camera},
			steps: []fault.Step{{Kind: fault.Stays, Of: 1, Found: 0, Into: -1}, {Kind: fault.Opened, Of: -1, Found: 1, Into: -1},
				{Kind: fault.Joined, Of: 0, Found: -1, Into: 0}}},
		"it comes back": {known: []fault.Known{closed(stopped, 90*time.Minute)}, found: []diagnose.Finding{stopped},
			steps: []fault.Step{{Kind: fault.Reopened, Of: 0, Found: 0, Into: -1}}},
		"it comes back, explained otherwise": {known: []fault.Known{closed(stopped, 90*time.Minute)}, found: []diagnose.Finding{off},
			steps: []fault.Step{{Kind: fault.Reopened, Of: 0, Found: 0, Into: -1}}},
		"too late to be the same": {known: []fault.Known{closed(stopped, 59*time.Minute)}, found: []diagnose.Finding{stopped},
			steps: []fault.Step{{Kind: fault.Opened, Of: -1, Found: 0, Into: -1}}},
		"an expiring certificate and a stopped service are two": {known: []fault.Known{open(expiring, 0)},
			found: []diagnose.Finding{stopped},
			steps: []fault.Step{{Kind: fault.Opened, Of: -1, Found: 0, Into: -1}, {Kind: fault.Closed, Of: 0, Found: -1, Into: -1}}},
		"an expiring certificate that expires is one": {known: []fault.Known{open(expiring, 0)}, found: []diagnose.Finding{expired},
			steps: []fault.Step{{Kind: fault.Changed, Of: 0, Found: 0, Into: -1}}},
		"a name has no services": {known: []fault.Known{open(stale, 0)}, found: []diagnose.Finding{finding("name-missing",
			"hostname lamp")},
			steps: []fault.Step{{Kind: fault.Changed, Of: 0, Found: 0, Into: -1}}},
		"another name is another trouble": {known: []fault.Known{open(stale, 0)},
			found: []diagnose.Finding{finding("name-stale", "hostname quay")},
			steps: []fault.Step{{Kind: fault.Opened, Of: -1, Found: 0, Into: -1}, {Kind: fault.Closed, Of: 0, Found: -1, Into: -1}}},
	} {
		require.Equal(t, c.steps, fault.Settle(c.known, c.found, now), what)
	}
}

// Whatever is known and found: each finding has one fault, each fault one step, and no fault goes on twice.
func TestNoFindingIsLostAndNoFaultIsUsedTwice(t *testing.T) {
	all := []diagnose.Finding{finding("site-dark", "link main", "page", "camera", "vpn"), finding("device-off", "device a", "page",
		"camera"),
		finding("service-stopped", "service page", "page"), finding("service-hung", "service camera", "camera"),
		finding("certificate-expiring", "service page", "page"), finding("exposed", "service admin", "admin"),
		finding("name-stale", "hostname lamp")}
	for knownSet := range 1 << len(all) {
		for foundSet := range 1 << len(all) {
			var known []fault.Known
			var found []diagnose.Finding
			for i, f := range all {
				if knownSet>>i&1 == 1 && i%2 == 0 {
					known = append(known, open(f, time.Duration(i)*time.Minute))
				} else if knownSet>>i&1 == 1 {
					known = append(known, closed(f, time.Duration(80+i)*time.Minute))
				}
				if foundSet>>i&1 == 1 {
					found = append(found, f)
				}
			}
			of, goes := map[int]int{}, map[int]int{}
			for _, s := range fault.Settle(known, found, morning.Add(2*time.Hour)) {
				if s.Of >= 0 {
					of[s.Of]++
				}
				if s.Found >= 0 {
					goes[s.Found]++
				}
				require.Equal(t, s.Kind == fault.Joined, s.Into >= 0)
			}
			require.Len(t, goes, len(found))
			for i, k := range known {
				require.LessOrEqual(t, of[i], 1)
				require.True(t, of[i] == 1 || !k.Closed.IsZero(), "an open fault without a step")
			}
		}
	}
}

func TestSitesOfOneProviderThatAreDarkAreOneFault(t *testing.T) {
	dark := []fault.Dark{{1, "KET-07", "Kettle Cable", morning.Add(time.Minute)}, {2, "KET-01", "Kettle Cable", morning},
		{3, "GAN-02", "Gannet Mobile", morning}, {4, "NON-01", "", morning}, {5, "NON-02", "", morning}, {6, "NON-03", "", morning}}
	require.Empty(t, fault.Outages(dark, nil), "two sites are no outage yet, and no provider is none")

	out := fault.Outages(dark, map[string]bool{"Kettle Cable": true})
	require.Len(t, out, 1, "an outage that was told stays while two of its sites are dark")
	require.Equal(t, []string{"KET-01", "KET-07"}, out[0].Sites, "the first to go dark first")
	require.Equal(t, []int64{2, 1}, out[0].Under)
	require.Equal(t, morning, out[0].Since)

	for i := range 500 {
		dark = append(dark, fault.Dark{FaultID: int64(10 + i), Site: "ISL-" + string(rune('A'+i%26)), Provider: "Islenet Fibre",
			Opened: morning})
	}
	out = fault.Outages(dark, nil)
	require.Len(t, out, 1)
	require.Equal(t, "Islenet Fibre has an outage: 500 sites are dark", out[0].Finding.Summary)
	require.Contains(t, out[0].Finding.Evidence[0], "and 488 more")
	require.Equal(t, "Islenet Fibre", fault.ProviderOf(out[0].Finding.Subject))
	require.Empty(t, fault.ProviderOf("link main"))
}
