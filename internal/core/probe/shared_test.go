package probe_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestOptionsAreSharedByThoseWhoHaveTheSame(t *testing.T) {
	first, second := probe.Share(probe.Options{Path: "/door"}), probe.Share(probe.Options{Path: "/" + string([]byte("door"))})
	require.True(t, first == second)
	require.False(t, first == probe.Share(probe.Options{Path: "/gate"}))
	require.Equal(t, probe.Options{Path: "/door"}, second.Get())

	var none probe.SharedOptions
	require.True(t, none == probe.Share(probe.Options{}))
	require.Zero(t, none.Get())
}
