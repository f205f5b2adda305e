package passwords

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"inkpost.example/inkpost/internal/core/site"
)

func TestWhatIsGuessedSoonIsRefused(t *testing.T) {
	for _, weak := range []string{"short", "1234567890", "password123", "iloveyou2026", "qwertyuiopas", "dispatch-dispatch", "inkpost2026",
		"aaaaaaaaaaaaaaaa", "abcdefghijkl", strings.Repeat("gannet kettle ", 20)} {
		require.ErrorAs(t, Check("dispatch", weak), &site.Flaws{}, weak)
	}
	for _, strong := range []string{"slipway-gannet-kettle", "Jörð við brúna 7", "t4kR!vq0Zp2x", strings.Repeat("gannet kettle ", 14)} {
		require.NoError(t, Check("dispatch", strong), strong)
	}
}

func TestAPasswordMatchesWhatIsKeptOfIt(t *testing.T) {
	kept, err := Hash("slipway-gannet-kettle")
	require.NoError(t, err)
	other, err := Hash("slipway-gannet-kettle")
	require.NoError(t, err)
	require.NotEqual(t, kept, other, "each has a salt of its own")
	right, stale := Matches(kept, "slipway-gannet-kettle")
	require.True(t, right && !stale)
	right, _ = Matches(kept, "slipway-gannet-kettlf")
	require.False(t, right)
	old, err := bcrypt.GenerateFromPassword([]byte("slipway"), bcrypt.MinCost)
	require.NoError(t, err)
	right, stale = Matches(old, "slipway")
	require.True(t, right && stale)
	for _, broken := range []string{"", "$argon2id$", "$argon2id$v=19$m=1,t=1,p=1$x$y", "plain"} {
		right, _ = Matches([]byte(broken), broken)
		require.False(t, right, broken)
	}
}
