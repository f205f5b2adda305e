package statefile_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/statefile"
)

func TestAClaimStaysTheSameForOneCode(t *testing.T) {
	path := filepath.Join(t.TempDir(), "agent", "claim.json")
	claim := func(code string) string {
		c, err := statefile.Claim(path, code)
		require.NoError(t, err)
		require.GreaterOrEqual(t, len(c), 50)
		return c
	}
	first := claim("AAAA-BBBB-CCCC")
	require.Equal(t, first, claim("AAAA-BBBB-CCCC"), "it may have been told already")
	require.NotEqual(t, first, claim("DDDD-EEEE-FFFF"))
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	require.NotEmpty(t, claim("AAAA-BBBB-CCCC"), "a file that cannot be read is written anew")

	require.NoError(t, os.Remove(path))
	require.NoError(t, os.Mkdir(path, 0o700))
	_, err := statefile.Claim(path, "AAAA-BBBB-CCCC")
	require.Error(t, err, "nobody is asked with a claim that is not kept")
}
