package trials_test

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"net/netip"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
)

// freeze has a PostgreSQL do nothing at all, as on a disk that hangs: its connections stay open, and nobody answers. It gives how to
// thaw it.
func freeze(t *testing.T, database string) (thaw func()) {
	t.Helper()
	dir := one[string](t, database, `SHOW data_directory`)
	text, err := os.ReadFile(filepath.Join(dir, "postmaster.pid"))
	require.NoError(t, err)
	first, _, _ := strings.Cut(string(text), "\n")
	main, err := strconv.Atoi(first)
	require.NoError(t, err)
	stopped := []int{main}
	require.NoError(t, syscall.Kill(main, syscall.SIGSTOP)) // first, so that it makes no more of them
	files, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(t, err)
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			continue // it has ended
		}
		pid, _, _ := strings.Cut(string(text), " ")
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+2:]))
		if id, err := strconv.Atoi(pid); err == nil && fields[1] == first && syscall.Kill(id, syscall.SIGSTOP) == nil {
			stopped = append(stopped, id)
		}
	}
	require.Greater(t, len(stopped), 3)
	done := false
	thaw = func() {
		for _, id := range stopped {
			if !done {
				_ = syscall.Kill(id, syscall.SIGCONT)
			}
		}
		done = true
	}
	t.Cleanup(thaw)
	return thaw
}

func TestADatabaseThatHangsHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	database, _ := testbed.OwnDatabase(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	r := s.Router(t, "KET-07")
	require.NoError(t, r.Announce(t.Context(), "127.117.3.1"))
	l, err := peer.Peer{Name: "page"}.Listen("tcp", netip.MustParseAddrPort("127.117.3.1:8443"))
	require.NoError(t, err)
	_, err = s.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "page", Device: "recorder", External: "8443", Interval: 2})
	require.NoError(t, err)
	require.EventuallyWithT(t, func(c *collect) {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		require.NoError(c, err)
		require.True(c, got.AsExpected)
	}, 10*time.Second, 50*time.Millisecond)

	pace := testbed.Watch(t)
	thaw := freeze(t, database)
	quick := func(what string, most time.Duration, ask func() error) error {
		began := time.Now()
		err := ask()
		pace.Within(t, began, time.Now(), most, what)
		return err
	}
	require.Equal(t, "127.117.3.1", testbed.Resolve(s.DNS, name))
	require.NoError(t, quick("overview", 3*time.Second, func() error {
		o, err := s.Client.Overview(t.Context())
		require.Contains(t, o.Trouble, "the database does not answer")
		require.Len(t, o.Sites, 1)
		return err
	}))
	require.NoError(t, quick("site", time.Second, func() error { _, err := s.Client.Site(t.Context(), "KET-07"); return err }))
	require.Equal(t, 503, status(quick("moves", 6*time.Second,
		func() error { _, err := s.Client.Moves(t.Context(), contract.MoveQuery{}); return err })))
	require.Error(t, quick("an announcement", 6*time.Second, func() error { return r.Announce(t.Context(), "127.117.3.2") }))
	require.NoError(t, quick("readyz", 4*time.Second, func() error {
		require.Equal(t, 503, request(t, "GET", s.URL+"/readyz", "").StatusCode)
		return nil
	}))

	// What goes wrong meanwhile is seen, and keeps the time at which it was.
	require.NoError(t, l.Close())
	var seen contract.Fault
	require.EventuallyWithT(t, func(c *collect) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		seen = list[0]
	}, 15*time.Second, 50*time.Millisecond)
	require.EqualValues(t, "service-stopped", seen.Finding.Cause)
	page, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.EqualValues(t, "service-stopped", page.Paths[0].Finding.Cause)

	thaw()
	require.EventuallyWithT(t, func(c *collect) {
		list, err := s.Client.Faults(context.Background(), "KET-07", false)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.WithinDuration(c, seen.Opened, list[0].Opened, time.Millisecond)
		require.NotZero(c, list[0].ID)
	}, 30*time.Second, 100*time.Millisecond)
	require.EventuallyWithT(t, func(c *collect) { require.NoError(c, r.Announce(context.Background(), "127.117.3.2")) },
		30*time.Second, 500*time.Millisecond)
}

// A server that stands by asks the database who writes: one that hangs holds nobody up there, either.
func TestADatabaseThatHangsHoldsNobodyUpAtAServerThatStandsBy(t *testing.T) {
	t.Parallel()
	database, _ := testbed.OwnDatabase(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	r := s.Router(t, "KET-07")
	beside := testbed.Beside(t, s, database, nil)
	require.NoError(t, r.At(beside.URL).Announce(t.Context(), "198.51.100.7"))
	soon(t, 5*time.Second, "answered there", func() bool { return testbed.Resolve(beside.DNS, name) == "198.51.100.7" })

	pace := testbed.Watch(t)
	thaw := freeze(t, database)
	for range 3 {
		began := time.Now()
		require.Equal(t, "198.51.100.7", testbed.Resolve(beside.DNS, name))
		pace.Within(t, began, time.Now(), 500*time.Millisecond, "a name")
		began = time.Now()
		_, err := beside.Client.Site(t.Context(), "KET-07")
		require.NoError(t, err, "who writes is known from before")
		pace.Within(t, began, time.Now(), 4*time.Second, "a site")
		began = time.Now()
		require.Error(t, r.At(beside.URL).Announce(t.Context(), "198.51.100.8"), "nothing can be kept")
		pace.Within(t, began, time.Now(), 15*time.Second, "an announcement")
	}
	thaw()
	soon(t, 20*time.Second, "it goes on by itself", func() bool {
		return r.At(beside.URL).Announce(context.Background(), "198.51.100.9") == nil
	})
	soon(t, 5*time.Second, "answered there again", func() bool { return testbed.Resolve(beside.DNS, name) == "198.51.100.9" })
}
