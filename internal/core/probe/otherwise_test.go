package probe_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestAPortThatFailsInAnotherWayIsLookedAtAnew(t *testing.T) {
	require.True(t, probe.FailsOtherwise(probe.Refused, probe.Silent), "what refused is not what keeps silent now")
	require.True(t, probe.FailsOtherwise(probe.Silent, probe.Refused))
	require.True(t, probe.FailsOtherwise(probe.Stranger, probe.Garbled))
	require.False(t, probe.FailsOtherwise(probe.Silent, probe.Silent))
	require.False(t, probe.FailsOtherwise(probe.Unroutable, probe.Silent), "a router does not say so each time")
	require.False(t, probe.FailsOtherwise(probe.Silent, probe.Unroutable))
}
