package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestLoginsToSeveralServersAreKept(t *testing.T) {
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	file := filepath.Join(home, "inkpost", "login.json")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, []byte(`{"server": "http://a.example", "name": "owner", "key": "1"}`), 0o600))
	l, err := readLogins()
	require.NoError(t, err)
	require.Equal(t, "1", l.Key, "as an older version kept it")
	for _, next := range []login{{"http://b.example", "dispatch", "2", false}, {"http://c.example", "owner", "3", false},
		{"http://b.example/", "keeper", "4", false}} {
		_, err = keepLogin(next)
		require.NoError(t, err)
	}
	l, err = readLogins()
	require.NoError(t, err)
	require.Len(t, l.Others, 2, "a login takes the place of an older one to the same server")
	for server, want := range map[string]string{"": "4", "http://b.example": "4", "http://a.example/": "1", "http://c.example": "3"} {
		got, ok := l.at(server)
		require.True(t, ok, server)
		require.Equal(t, want, got.Key, server)
	}
	_, ok := l.at("http://d.example")
	require.False(t, ok)
	l = l.without("http://b.example")
	require.Equal(t, "3", l.Key, "the next is used")
	require.Equal(t, logins{}, l.without("http://a.example").without("http://c.example"))
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	_, err = readLogins()
	require.ErrorContains(t, err, "remove it and log in again")
}
