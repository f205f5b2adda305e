package seal_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/store/seal"
)

func ring(t *testing.T, keys ...string) seal.Ring {
	t.Helper()
	r, err := seal.Read([]byte("# ours\n\n" + strings.Join(keys, "\n") + "\n"))
	require.NoError(t, err)
	return r
}

func TestASecretIsOpenedByItsKeyInItsColumnOnly(t *testing.T) {
	old, next := seal.NewKey(), seal.NewKey()
	a, b, both := ring(t, old), ring(t, next), ring(t, next, old)
	stored := a.Seal("hook.secret", "c2FsdA==")
	require.True(t, seal.Sealed(stored))
	require.NotContains(t, stored, "c2FsdA")
	require.NotEqual(t, stored, a.Seal("hook.secret", "c2FsdA=="), "the same secret twice does not look the same")
	for name, r := range map[string]seal.Ring{"its own": a, "among others": both} {
		plain, err := r.Open("hook.secret", stored)
		require.NoError(t, err, name)
		require.Equal(t, "c2FsdA==", plain, name)
	}
	for name, try := range map[string]func() (string, error){
		"another key":    func() (string, error) { return b.Open("hook.secret", stored) },
		"no key":         func() (string, error) { return seal.Ring{}.Open("hook.secret", stored) },
		"another column": func() (string, error) { return a.Open("person.totp_secret", stored) },
		"changed":        func() (string, error) { return a.Open("hook.secret", stored[:len(stored)-2]+"AA") },
		"cut short":      func() (string, error) { return a.Open("hook.secret", "sealed:AAAA") },
		"no base64":      func() (string, error) { return a.Open("hook.secret", "sealed:!!") },
	} {
		_, err := try()
		require.ErrorIs(t, err, seal.ErrClosed, name)
	}
	plain, err := a.Open("hook.secret", "never sealed")
	require.NoError(t, err)
	require.Equal(t, "never sealed", plain)
	require.Empty(t, a.Seal("hook.secret", ""))

	again, same, err := both.Reseal("hook.secret", stored)
	require.NoError(t, err)
	require.False(t, same)
	plain, err = b.Open("hook.secret", again)
	require.NoError(t, err)
	require.Equal(t, "c2FsdA==", plain)
	_, same, err = both.Reseal("hook.secret", again)
	require.NoError(t, err)
	require.True(t, same)
}

func TestAFileThatHoldsNoKeyIsRefused(t *testing.T) {
	for name, file := range map[string]string{"nothing": "", "only words": "# none\n", "short": "c2hvcnQ=\n", "no base64": "key!\n",
		"second line": seal.NewKey() + "\nc2hvcnQ=\n"} {
		_, err := seal.Read([]byte(file))
		require.Error(t, err, name)
	}
	_, err := seal.Read([]byte(seal.NewKey() + "\nc2hvcnQ=\n"))
	require.ErrorContains(t, err, "line 2 is no key")
}
