package agent_test

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// way is a way out of a site whose WAN address, and whose connection, the test decides.
type way struct {
	from atomic.Pointer[netip.Addr]
	cut  atomic.Bool
}

func (w *way) move(address string) {
	a := netip.MustParseAddr(address)
	w.from.Store(&a)
}

func (w *way) dial(ctx context.Context, network, address string) (net.Conn, error) {
	if w.cut.Load() {
		return nil, errors.New("the line is cut")
	}
	if strings.HasSuffix(network, "6") {
		return nil, errors.New("there is no IPv6 at this site")
	}
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: w.from.Load().AsSlice()}}
	if strings.HasPrefix(network, "udp") {
		d.LocalAddr = &net.UDPAddr{IP: w.from.Load().AsSlice()}
	}
	c, err := d.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &line{Conn: c, way: w, from: *w.from.Load()}, nil
}

// line dies when the address it was opened from is no longer the site's.
type line struct {
	net.Conn
	way  *way
	from netip.Addr
}

func (l *line) Write(p []byte) (int, error) {
	if l.way.cut.Load() || *l.way.from.Load() != l.from {
		_ = l.Conn.Close()
		return 0, net.ErrClosed
	}
	return l.Conn.Write(p)
}

func site(t *testing.T, s *testbed.Service) string {
	t.Helper()
	_, err := s.Client.AddSite(t.Context(), contract.SiteInput{Code: "KET-07", Name: "Lighthouse Museum"})
	require.NoError(t, err)
	_, err = s.Client.AddLink(t.Context(), "KET-07", contract.LinkInput{Label: "main"})
	require.NoError(t, err)
	inv, err := s.Client.Invite(t.Context(), "KET-07", "main", testbed.Public...)
	require.NoError(t, err)
	return inv.Code
}

func awaitAddress(t *testing.T, s *testbed.Service, address string) {
	t.Helper()
	require.Eventually(t, func() bool {
		l, err := s.Client.Link(context.Background(), "KET-07", "main")
		return err == nil && l.IPv4.String() == address
	}, 20*time.Second, 20*time.Millisecond, address)
}

func TestAnAgentEnrolsFollowsAndOutlivesTrouble(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.3.1")
	state := filepath.Join(t.TempDir(), "agent")
	options := agent.Options{Server: s.URL, Code: site(t, s), StateDir: state, Dial: w.dial, Log: slog.New(slog.DiscardHandler)}
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- agent.Run(ctx, options) }()
	awaitAddress(t, s, "127.111.3.1")
	info, err := os.Stat(filepath.Join(state, "agent.json"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	w.move("127.111.3.2")
	awaitAddress(t, s, "127.111.3.2")

	w.cut.Store(true)
	w.move("127.111.3.3")
	require.Never(t, func() bool {
		l, err := s.Client.Link(context.Background(), "KET-07", "main")
		return err != nil || l.IPv4.String() != "127.111.3.2"
	}, 1500*time.Millisecond, 100*time.Millisecond)
	w.move("127.111.3.4") // moved twice while nobody could be told
	w.cut.Store(false)
	awaitAddress(t, s, "127.111.3.4")
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Link: "main", Limit: 10})
	require.NoError(t, err)
	require.Len(t, moves, 3, "the newest address is announced, not those that were missed")

	stop()
	require.NoError(t, <-ended)

	// A second run needs no code: it has its key.
	options.Code = ""
	w.move("127.111.3.5")
	again, stopAgain := context.WithCancel(t.Context())
	defer stopAgain()
	go func() { ended <- agent.Run(again, options) }()
	awaitAddress(t, s, "127.111.3.5")

	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	for _, k := range keys {
		if k.Scope == "agent" {
			require.NoError(t, s.Client.RevokeKey(t.Context(), k.ID))
		}
	}
	select {
	case err := <-ended:
		require.ErrorIs(t, err, agent.ErrRevoked)
	case <-time.After(20 * time.Second):
		t.Fatal("an agent whose key was revoked went on")
	}
}

func TestAnAgentWaitsForAServerThatIsAway(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.3.9")
	w.cut.Store(true)
	options := agent.Options{Server: s.URL, Code: site(t, s), StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial,
		Log: slog.New(slog.DiscardHandler)}
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	defer running.Wait() // before its folder is removed
	defer stop()
	running.Go(func() { _ = agent.Run(ctx, options) })
	require.Never(t, func() bool { return agent.Enrolled(options.StateDir) }, time.Second, 50*time.Millisecond)
	w.cut.Store(false)
	awaitAddress(t, s, "127.111.3.9")
}

func TestAnAgentWithoutAGoodCodeSaysSo(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.3.9")
	base := agent.Options{Server: s.URL, StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial}
	err := agent.Run(t.Context(), base)
	require.ErrorContains(t, err, "give --server and --code")
	base.Code = "AAAA-BBBB-CCCC"
	require.ErrorContains(t, agent.Run(t.Context(), base), "mistyped, was used already or is older than a day")
	require.False(t, agent.Enrolled(base.StateDir))
	require.NoError(t, os.MkdirAll(base.StateDir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(base.StateDir, "agent.json"), []byte("{"), 0o600))
	require.ErrorContains(t, agent.Run(t.Context(), base), "remove it and enrol again")
}
