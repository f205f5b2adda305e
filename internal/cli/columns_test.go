package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTablesFitTheTerminal(t *testing.T) {
	require.Equal(t, []int{6, 40, 12}, fitted([]int{6, 40, 12}, 0), "what is no terminal gets everything")
	require.Equal(t, []int{6, 40, 12}, fitted([]int{6, 40, 12}, 64))
	require.Equal(t, []int{6, 26, 12}, fitted([]int{6, 40, 12}, 50), "the widest gives way")
	require.Equal(t, []int{6, 10, 10}, fitted([]int{6, 40, 12}, 20), "and none says nothing any more")
	require.Empty(t, fitted(nil, 80))
	require.Equal(t, "Kettle Qu…", shortened("Kettle Quay 7", 10))
	require.Equal(t, "Æther", shortened("Æther", 5))
}
