package demo_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/demo"
)

// expected is what is found at each site of the scenario that is in trouble.
var expected = map[string]causes.Slug{"BAK-02": "link-failing", "BIR-08": "device-drifted",
	"BOA-09": "service-stopped",
	"CLI-05": "exposed", "FER-11": "carrier-nat", "OYS-03": "double-nat",
	"RAD-06": "device-off"}

func TestTheScenarioIsInTroubleAndEachSiteIsMendedByOneLine(t *testing.T) {
	// A link behind another NAT that has just moved: what its router said before is still so.
	_, err := owner.Renumber(t.Context(), "OYS-03", "main")
	require.NoError(t, err)
	require.NoError(t, running.Trouble(""))
	require.Len(t, demo.Troubled(), 7)
	for _, site := range demo.Troubled() {
		code := site[0]
		require.EventuallyWithT(t, func(c *assert.CollectT) {
			list, err := owner.Faults(t.Context(), code, true)
			require.NoError(c, err)
			var found []causes.Slug
			var why []string
			for _, f := range list {
				require.NotEmpty(c, f.Finding.Summary)
				found, why = append(found, f.Finding.Cause), append(why, f.Finding.Evidence...)
			}
			require.Contains(c, found, expected[code], "%s: %s; what speaks for the others: %q", code, site[1], why)
		}, 90*time.Second, 250*time.Millisecond)
	}
	for _, site := range demo.Troubled() {
		m, err := owner.Mend(t.Context(), site[0])
		require.NoError(t, err)
		require.NotEmpty(t, m.Mended, site[0])
	}
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		list, err := owner.Faults(t.Context(), "", true)
		require.NoError(c, err)
		for _, f := range list {
			require.NotEqual(c, expected[f.Site], f.Finding.Cause, "%s: %s", f.Site, f.Finding.Summary)
		}
	}, 120*time.Second, 500*time.Millisecond)
	_, err = owner.Mend(t.Context(), "NOT-99")
	require.True(t, client.IsStatus(err, http.StatusNotFound), "%v", err)
}
