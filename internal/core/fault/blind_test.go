package fault_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/fault"
)

func TestABlindVantagePointIsOneFaultThatCanWait(t *testing.T) {
	list := fault.Blinds([]fault.Blind{{"harbour", "it does not reach 7 of 9 services that others reach"}, {"pier",
		"it was last heard 2 h ago"}})
	require.Len(t, list, 2)
	require.Equal(t, "vantage harbour", list[0].Subject)
	require.Equal(t, "harbour", fault.VantageOf(list[0].Subject))
	require.Empty(t, fault.ProviderOf(list[0].Subject))
	require.Empty(t, fault.VantageOf("provider Kettle Cable"))
	require.False(t, list[0].Serious(), "others still look")
	require.Equal(t, []string{"it was last heard 2 h ago"}, list[1].Evidence)
	require.NotEqual(t, list[0].Key(), list[1].Key())
	require.Empty(t, fault.Blinds(nil))
	require.Empty(t, fault.Unrenewed(""))
	own := fault.Unrenewed("the authority gave no certificate (3 tries), at order: rate limited")
	require.Len(t, own, 1)
	require.EqualValues(t, "certificate-unrenewed", own[0].Cause)
	require.False(t, own[0].Serious(), "names are answered, and the certificate lasts for a while yet")
	require.Contains(t, own[0].Evidence[0], "rate limited")
	require.Contains(t, own[0].Next, "inkpost doctor")
}
