// Package trials_test holds what breaks a service in the field: two writers, two servers, keys in the wrong hands, people who keep
// it busy, and machines that are killed. The table in docs/reliability.md names the test of each.
package trials_test

import (
	"context"
	"errors"
	"net/http"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/testbed"
)

type (
	options = testbed.Options
	collect = assert.CollectT
)

const zone = testbed.Zone

func TestMain(m *testing.M) { testbed.Main(m) }

// start runs a service; further ones on its database stand by.
func start(t testing.TB, edit func(*options)) *testbed.Service {
	t.Helper()
	return testbed.Start(t, edit)
}

// status is that of an error of the API, 0 for any other.
func status(err error) int {
	var p *client.Error
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// soaking is how long tests are to go on that can go on for long, as make soak sets it; 0 where they are to be short.
func soaking() time.Duration {
	long, _ := time.ParseDuration(os.Getenv("INKPOST_SOAK"))
	return long
}

// consistent checks that nothing contradicts itself of what a database has on record.
func consistent(t testing.TB, database string) {
	t.Helper()
	found, kinds, err := daemon.Contradictions(context.Background(), database)
	require.NoError(t, err)
	require.Greater(t, kinds, 10)
	require.Empty(t, found)
}

// query runs a statement in a service's database.
func query(t testing.TB, database, statement string, args ...any) {
	t.Helper()
	c, err := pgx.Connect(context.Background(), database)
	require.NoError(t, err)
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), statement, args...)
	require.NoError(t, err)
}

func pgxConnect(t testing.TB, database string) (*pgx.Conn, error) {
	t.Helper()
	return pgx.Connect(context.Background(), database)
}

// one reads one value from a database.
func one[T any](t testing.TB, database, statement string, args ...any) (v T) {
	t.Helper()
	c, err := pgx.Connect(context.Background(), database)
	require.NoError(t, err)
	defer c.Close(context.Background())
	require.NoError(t, c.QueryRow(context.Background(), statement, args...).Scan(&v))
	return v
}

// request makes a request with a key, and gives its reply with the body closed.
func request(t testing.TB, method, url, key string, header ...string) *http.Response {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, nil)
	require.NoError(t, err)
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	return r
}
