package trials_test

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store/cluster"
	"inkpost.example/inkpost/internal/testbed"
)

// mover is a router whose address changes, and what was acknowledged of that.
type mover struct {
	s     *testbed.Service
	r     testbed.Router
	name  string
	taken []string
	next  int
}

func newMover(t *testing.T, s *testbed.Service) *mover {
	t.Helper()
	s.Record(t, "KET-07")
	return &mover{s: s, name: s.Name(t, "KET-07"), r: s.Router(t, "KET-07")}
}

// move announces the next address, again and again as routers do, for a while. It reports whether it was taken.
func (m *mover) move(within time.Duration) bool {
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	address := fmt.Sprintf("198.51.%d.%d", 100, 1+m.next%250)
	for ctx.Err() == nil {
		if m.r.Announce(ctx, address) == nil {
			m.next++
			m.taken = append(m.taken, address)
			return true
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
		}
	}
	m.next++ // it is somewhere else by now
	return false
}

// answered checks that the name has the address that was acknowledged last.
func (m *mover) answered(t *testing.T, why string) {
	t.Helper()
	began := time.Now()
	got := testbed.Resolve(m.s.DNS, m.name)
	require.Less(t, time.Since(began), 2*time.Second, why)
	require.Equal(t, m.taken[len(m.taken)-1], got, why)
}

// kept checks that all that was acknowledged is on record, in order.
func (m *mover) kept(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool {
		moves, err := m.s.Client.Moves(context.Background(), contract.MoveQuery{Site: "KET-07", Limit: 500})
		if err != nil {
			return false
		}
		at := len(m.taken) - 1
		for _, one := range moves { // the newest first; between two may be one that was done and not acknowledged
			if at >= 0 && one.New == m.taken[at] {
				at--
			}
		}
		return at < 0
	}, 20*time.Second, 100*time.Millisecond, "all %d that were acknowledged are there", len(m.taken))
}

func TestADatabaseWithoutConnectionsRefusesAndRecovers(t *testing.T) {
	t.Parallel()
	database, _ := testbed.OwnDatabase(t)
	s := start(t, func(o *options) { o.Database = database })
	m := newMover(t, s)
	require.True(t, m.move(5*time.Second))

	// Others take all that there are, and those of the service are ended: it needs new ones, and gets none.
	db, err := sql.Open("pgx", database+"&application_name=taker")
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	var held []*sql.Conn
	take := func() bool {
		c, err := db.Conn(t.Context())
		if err == nil {
			held = append(held, c)
		}
		return err == nil
	}
	require.True(t, take())
	soon(t, 30*time.Second, "the service has no connection, and there is none", func() bool {
		_, err := held[0].ExecContext(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity
			WHERE backend_type = 'client backend' AND application_name <> 'taker'`)
		require.NoError(t, err)
		for take() { // what became free goes to the others, or to the service again
		}
		var has int
		require.NoError(t, held[0].QueryRowContext(t.Context(), `SELECT count(*) FROM pg_stat_activity
			WHERE backend_type = 'client backend' AND application_name <> 'taker'`).Scan(&has))
		return has == 0 && !take()
	})
	require.Greater(t, len(held), 20)
	require.False(t, m.move(3*time.Second), "nothing is acknowledged that cannot be kept")
	m.answered(t, "names are answered")
	require.Equal(t, 503, request(t, "GET", s.URL+"/readyz", "").StatusCode)

	for _, c := range held {
		_ = c.Close()
	}
	require.NoError(t, db.Close())
	require.True(t, m.move(20*time.Second), "it goes on by itself")
	m.answered(t, "afterwards")
	m.kept(t)
	consistent(t, database)
}

// slowly stands between the service and its database, and passes everything on late. It returns the database's URL through it.
func slowly(t *testing.T, database string, late func() time.Duration) string {
	t.Helper()
	u, err := url.Parse(database)
	require.NoError(t, err)
	q := u.Query()
	behind := filepath.Join(q.Get("host"), ".s.PGSQL.5432")
	dir, err := os.MkdirTemp("", "inkpost-slow-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	l, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5432"))
	require.NoError(t, err)
	var under sync.WaitGroup
	t.Cleanup(func() { _ = l.Close(); under.Wait() })
	under.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("unix", behind)
			if err != nil {
				_ = c.Close()
				continue
			}
			under.Go(func() { _, _ = io.Copy(far, c); _ = far.Close() })
			under.Go(func() {
				buffer := make([]byte, 64<<10)
				for {
					n, err := far.Read(buffer)
					time.Sleep(late())
					if n > 0 {
						if _, err := c.Write(buffer[:n]); err != nil {
							break
						}
					}
					if err != nil {
						break
					}
				}
				_ = c.Close()
			})
		}
	})
	q.Set("host", dir)
	u.RawQuery = q.Encode()
	return u.String()
}

func TestASlowDatabaseMakesAnnouncementsSlowAndNothingElse(t *testing.T) {
	t.Parallel()
	database, _ := testbed.OwnDatabase(t)
	var mu sync.Mutex
	late := time.Duration(0)
	set := func(d time.Duration) { mu.Lock(); late = d; mu.Unlock() }
	s := start(t, func(o *options) {
		o.Database = slowly(t, database, func() time.Duration { mu.Lock(); defer mu.Unlock(); return late })
	})
	m := newMover(t, s)
	require.True(t, m.move(5*time.Second))
	set(300 * time.Millisecond)
	for range 3 {
		began := time.Now()
		require.True(t, m.move(10*time.Second), "a slow database is no reason to refuse")
		require.Less(t, time.Since(began), 6*time.Second)
		m.answered(t, "names are answered as fast as ever")
	}
	began := time.Now()
	_, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Less(t, time.Since(began), time.Second, "what is in memory is shown at once")
	set(0)
	require.True(t, m.move(5*time.Second))
	m.kept(t)
}

func TestAFullDiskRefusesAndLosesNothing(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root may mount a disk of the test's own")
	}
	dir, err := os.MkdirTemp("", "inkpost-full-")
	require.NoError(t, err)
	said, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=160m", "none", dir).CombinedOutput()
	require.NoError(t, err, string(said))
	t.Cleanup(func() {
		_ = exec.Command("umount", "-l", dir).Run()
		_ = os.RemoveAll(dir)
	})
	c, err := cluster.Start(t.Context(), cluster.Options{Dir: dir})
	require.NoError(t, err)
	t.Cleanup(func() { c.Stop() })
	s := start(t, func(o *options) { o.Database = c.URL("inkpost") })
	m := newMover(t, s)
	require.True(t, m.move(5*time.Second))

	// All that is left is taken by something else; what the database has is full after a while.
	_ = exec.Command("dd", "if=/dev/zero", "of="+filepath.Join(dir, "other"), "bs=64k").Run()
	refused := false
	for began := time.Now(); !refused && time.Since(began) < 60*time.Second; {
		fill(c.URL("inkpost"))
		refused = !m.move(2 * time.Second)
		m.answered(t, "names are answered")
	}
	require.True(t, refused, "in the end nothing can be written")
	require.False(t, m.move(time.Second))
	m.answered(t, "still")

	require.NoError(t, os.Remove(filepath.Join(dir, "other")))
	if !m.move(10 * time.Second) { // without room for its log PostgreSQL gives up, and is started again by whoever made room
		c.Stop()
		again, err := cluster.Start(t.Context(), cluster.Options{Dir: dir})
		require.NoError(t, err)
		c = again
		require.True(t, m.move(20*time.Second), "it goes on without a restart of ours")
	}
	m.answered(t, "afterwards")
	m.kept(t)
	consistent(t, c.URL("inkpost"))
}

// fill has the database write its log, as others do that use it; what comes of it does not matter.
func fill(database string) {
	db, err := sql.Open("pgx", database)
	if err != nil {
		return
	}
	defer db.Close()
	_, _ = db.Exec(`SELECT pg_logical_emit_message(false, 'inkpost', repeat('x', 1 << 20)) FROM generate_series(1, 4)`)
}
