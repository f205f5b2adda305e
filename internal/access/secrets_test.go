package access

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCodesAreReadable(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		c := newCode(3)
		require.Regexp(t, `^[A-HJ-KM-NP-Z2-9]{4}-[A-HJ-KM-NP-Z2-9]{4}-[A-HJ-KM-NP-Z2-9]{4}$`, c)
		require.False(t, seen[c])
		seen[c] = true
	}
	require.NotEqual(t, newSecret(), newSecret())
	require.GreaterOrEqual(t, len(newSecret()), 43, "256 bits")
}
