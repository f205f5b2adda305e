package trials_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store/seal"
	"inkpost.example/inkpost/internal/testbed"
)

// lineOf is a line of a file.
func lineOf(t *testing.T, file string, n int) string {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return strings.Split(string(text), "\n")[n] + "\n"
}

// Secrets that were stored as they are become unreadable in the database, go on being used, and change their key.
func TestSecretsAreSealedInTheDatabase(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	file := filepath.Join(t.TempDir(), "secrets-key")
	keys := func() daemon.SecretRing {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		r, err := daemon.ReadSecretRing(text)
		require.NoError(t, err)
		return r
	}
	stored := func() (out []string) {
		c, err := pgxConnect(t, database)
		require.NoError(t, err)
		defer c.Close(context.Background())
		rows, err := c.Query(t.Context(), `SELECT secret FROM signing_key UNION ALL SELECT secret FROM hook UNION ALL
			SELECT probe_key FROM service WHERE probe_key <> '' UNION ALL
			SELECT push_private FROM installation WHERE push_private <> ''`)
		require.NoError(t, err)
		out, err = pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
		return out
	}
	s := start(t, func(o *options) { o.Database = database })
	key, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "second.saltmarsh.example"})
	require.NoError(t, err)
	_, err = s.Client.PushKey(t.Context())
	require.NoError(t, err)
	require.Contains(t, stored(), key.Secret)
	s.Stop()

	said, code := inkpost(t, "secrets-key", file)
	require.Zero(t, code, said)
	s = start(t, func(o *options) { o.Database, o.Secrets = database, keys() })
	hook, err := s.Client.AddHook(t.Context(), contract.HookInput{Name: "board", URL: "https://board.saltmarsh.example/in"})
	require.NoError(t, err)
	s.Record(t, "KET-07")
	s.Device(t, "KET-07", "gateway")
	vpn, err := s.Client.AddService(t.Context(), "KET-07", contract.ServiceInput{Name: "vpn", Device: "gateway", External: "51820",
		Kind:    "wireguard",
		Options: probe.Options{PeerKey: "YAnz5TF+lXXJte14tji3zlMNftft3Y0U9Y2ZbIWKZRg="}})
	require.NoError(t, err)
	before := stored()
	require.Len(t, before, 4)
	for _, one := range before {
		require.True(t, seal.Sealed(one), one)
		require.NotContains(t, []string{key.Secret, hook.Secret}, one)
	}
	var standing checkup.Standing
	require.NoError(t, s.Client.Checkup(t.Context(), func(p checkup.Point) {
		if p.Name == "secrets" {
			standing = p.Standing
		}
	}))
	require.Equal(t, checkup.Good, standing)
	s.Stop()

	// Another key seals them anew; the one before is needed once more, and then no longer.
	old := keys()
	said, code = inkpost(t, "secrets-key", file)
	require.Zero(t, code, said)
	s = start(t, func(o *options) { o.Database, o.Secrets = database, keys() })
	got, err := s.Client.Service(t.Context(), "KET-07", "vpn")
	require.NoError(t, err)
	require.Equal(t, vpn.PeerKey, got.PeerKey, "the same key on the way to the gateway")
	s.Stop()
	require.NotEqual(t, before, stored())
	// What was removed under a key that is gone is refused, and leaves the record as it was.
	s = start(t, func(o *options) { o.Database, o.Secrets = database, keys() })
	require.NoError(t, s.Client.RemoveService(t.Context(), "KET-07", "vpn"))
	removed, err := s.Client.Removed(t.Context())
	require.NoError(t, err)
	s.Stop()
	require.NoError(t, os.WriteFile(file, []byte(daemon.NewSecretKey()+"\n"+lineOf(t, file, 0)), 0o600))
	s = start(t, func(o *options) { o.Database, o.Secrets = database, keys() })
	s.Stop()
	require.NoError(t, os.WriteFile(file, []byte(lineOf(t, file, 0)), 0o600))
	s = start(t, func(o *options) { o.Database, o.Secrets = database, keys() })
	_, err = s.Client.Restore(t.Context(), removed[0].ID)
	require.Equal(t, 409, status(err), "%v", err)
	require.ErrorContains(t, err, "--secrets-key")
	whole, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Empty(t, whole.Services)
	s.Stop()
	for name, ring := range map[string]daemon.SecretRing{"no key": {}, "the key before": old} {
		_, err = testbed.Bare(t, func(o *options) { o.Database, o.Secrets = database, ring })
		require.ErrorIs(t, err, seal.ErrClosed, name)
		require.ErrorContains(t, err, "--secrets-key", name)
	}
	require.NoError(t, os.WriteFile(file+".bad", []byte("no key\n"), 0o600))
	said, code = inkpost(t, "secrets-key", file+".bad")
	require.Equal(t, 1, code)
	require.Contains(t, said, "nothing was changed")
}
