package cli

import (
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

var flagged = regexp.MustCompile(`--([a-z-]+)`)

// What a cause tells people to type can be typed.
func TestCausesNameCommandsThatThereAre(t *testing.T) {
	texts := map[string]string{}
	for _, c := range causes.Table() {
		texts[string(c.Slug)] = c.Next
	}
	for _, s := range causes.Signs() {
		texts[string(s.Check())] = s.Check().Ask()
	}
	seen := 0
	for of, text := range texts {
		seen += typed(t, of, text)
	}
	require.Greater(t, seen, 10)
}

// typed checks that every command which a text names can be typed, and counts them.
func typed(t *testing.T, of, text string) (seen int) {
	t.Helper()
	for _, part := range strings.Split(text, "inkpost ")[1:] {
		words := strings.Fields(part)
		for i := range words {
			words[i] = strings.TrimRight(words[i], ".,:;?")
		}
		command, rest, err := newRoot().Find(words)
		require.NoError(t, err, "%s: inkpost %s", of, part)
		// A command that only holds others runs too: it prints its help, and takes none of the words that follow.
		require.False(t, command.HasSubCommands() && command.Name() != "commission",
			"%s: inkpost %s is no command", of, part)
		for _, m := range flagged.FindAllStringSubmatch(strings.Join(rest, " "), -1) {
			require.NotNil(t, command.Flags().Lookup(m[1]), "%s: inkpost %s has no --%s", of, command.Name(), m[1])
		}
		seen++
	}
	return seen
}

// What a step of a commissioning tells people to type can be typed.
func TestStepsNameCommandsThatThereAre(t *testing.T) {
	link := site.Link{ID: 1, Label: "main", IPv4: netip.MustParseAddr("198.51.100.7")}
	seen := 0
	for _, l := range []commission.Link{{Link: site.Link{ID: 1, Label: "main", Agent: true}},
		{Link: link, Hostnames: []commission.Hostname{{Name: "ket-07.isles.saltmarsh.example", State: names.StateStale}}},
		{Link: link, Hostnames: []commission.Hostname{{Name: "ket-07.isles.saltmarsh.example", State: names.StateHeld}}}} {
		now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
		f := commission.Facts{Now: now, Began: now.Add(-time.Minute), Site: "KET-07", Links: []commission.Link{l},
			Devices: []commission.Device{{Device: site.Device{ID: 2, Name: "door-phone", Reserved: true}}},
			Services: []commission.Service{{Service: site.Service{ID: 3, DeviceID: 2, Name: "view"}, OnLink: 1, Probed: now,
				State: probe.StateUnreachable, Outcome: probe.Silent, Named: commission.Named{Hostname: "ket-07.isles.saltmarsh.example",
					At: now}},
				{Service: site.Service{ID: 4, DeviceID: 2, Name: "audio", Fingerprint: "a"}, OnLink: 1, Shown: "b"}}}
		var results []commission.Result
		for range 20 { // each step is passed over in its turn, so that all of them are due once
			entries, _ := commission.Look(f, results)
			e, due := commission.Due(entries)
			if !due {
				break
			}
			seen += typed(t, string(e.Step), e.Do+" "+e.Next)
			results = append(results, commission.Result{Step: e.Step, Of: e.Of, State: commission.Skipped, At: now, By: "owner"})
		}
	}
	require.Greater(t, seen, 10)
}
