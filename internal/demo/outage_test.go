package demo_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/testbed/isles"
)

// All sites of a provider go dark: one fault of the provider explains theirs, and goes with the outage.
func TestAnOutageOfAProviderIsOneFault(t *testing.T) {
	const provider = "Islenet Fibre"
	sites := []string{"BOA-09", "CLI-05", "DIS-01", "OYS-03"}
	isles.AwaitAllReachable(t, owner, "DIS-01")
	require.NoError(t, owner.SetLabProvider(t.Context(), provider, false))
	t.Cleanup(func() { _ = owner.SetLabProvider(context.Background(), provider, true) })
	var outage contract.Fault
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		o, err := owner.Overview(t.Context())
		require.NoError(c, err)
		var ours []contract.Fault
		for _, f := range o.Faults {
			if f.Provider == provider && f.Site == "" {
				outage = f
			}
			for _, code := range sites {
				if f.Site == code && f.Serious {
					ours = append(ours, f)
				}
			}
		}
		require.Empty(c, ours, "what the outage explains stands under it")
		require.Equal(c, len(sites), outage.Sites)
	}, 90*time.Second, 250*time.Millisecond)
	require.Equal(t, "provider-outage", string(outage.Finding.Cause))
	story, err := owner.Fault(t.Context(), outage.ID)
	require.NoError(t, err)
	require.Len(t, story.Explained, len(sites))
	require.Equal(t, fault.Opened, story.Timeline[0].Kind)

	require.NoError(t, owner.SetLabProvider(t.Context(), provider, true))
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		story, err := owner.Fault(t.Context(), outage.ID)
		require.NoError(c, err)
		require.False(c, story.Closed.IsZero(), "the provider's fault is over")
		for _, code := range sites {
			list, err := owner.Faults(t.Context(), code, true)
			require.NoError(c, err)
			for _, f := range list {
				require.False(c, f.Serious, "%s: %s", code, f.Finding.Summary)
			}
		}
	}, 60*time.Second, 250*time.Millisecond)
	require.Error(t, owner.SetLabProvider(t.Context(), "Nobody", false))
}
