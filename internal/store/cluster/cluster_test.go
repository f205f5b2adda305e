package cluster

import (
	"context"
	"database/sql"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "inkpost-cluster-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

func query(t *testing.T, url, statement string) string {
	t.Helper()
	db, err := sql.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	var out string
	require.NoError(t, db.QueryRowContext(t.Context(), statement).Scan(&out))
	return out
}

func TestWhatIsKeptOutlivesAStopAndAKill(t *testing.T) {
	dir := folder(t)
	c, err := Start(t.Context(), Options{Dir: dir})
	require.NoError(t, err)
	require.Empty(t, query(t, c.URL("inkpost"), `SELECT current_setting('listen_addresses')`),
		"other users of the machine have no way in over the network")
	at, err := url.Parse(c.URL("inkpost"))
	require.NoError(t, err)
	folder, err := os.Stat(at.Query().Get("host"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o700), folder.Mode().Perm(), "nor by the socket")
	db, err := sql.Open("pgx", c.URL("inkpost"))
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), `CREATE TABLE kept AS SELECT 'ink' AS word`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	c.Stop()
	require.Error(t, syscall.Kill(c.proc.Pid, 0), "the server is gone")

	c, err = Start(t.Context(), Options{Dir: dir})
	require.NoError(t, err)
	require.Equal(t, "ink", query(t, c.URL("inkpost"), `SELECT word FROM kept`))
	left := c.proc.Pid

	// An owner that was killed leaves a server behind; the next one takes its place.
	next, err := Start(context.Background(), Options{Dir: dir})
	require.NoError(t, err)
	defer next.Stop()
	<-c.exit
	require.Error(t, syscall.Kill(left, 0))
	require.Equal(t, "ink", query(t, next.URL("inkpost"), `SELECT word FROM kept`))
	url, err := next.NewDatabase(t.Context(), "other")
	require.NoError(t, err)
	require.Equal(t, "other", query(t, url, `SELECT current_database()`))
}

func TestAFolderThatTheDatabaseCannotEnterIsNamed(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root runs PostgreSQL as another user")
	}
	outer := filepath.Join(folder(t), "private")
	require.NoError(t, os.Mkdir(outer, 0o700))
	_, err := Start(t.Context(), Options{Dir: filepath.Join(outer, "demo")})
	require.ErrorContains(t, err, "may not enter")
	require.ErrorContains(t, err, outer)
}
