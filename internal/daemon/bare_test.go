package daemon_test

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/testbed"
)

// deaf has a port say nothing to whoever connects: nobody accepts, and the queue for that is full.
func deaf(t *testing.T, address [4]byte, port int) {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	require.NoError(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: address, Port: port}))
	require.NoError(t, syscall.Listen(fd, 0))
	first, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(first) })
	require.NoError(t, syscall.Connect(first, &syscall.SockaddrInet4{Addr: address, Port: port}))
}

func TestAProbeOfWhatWasEditedIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	const deadline = time.Minute
	s := testbed.Start(t, func(o *daemon.Options) { o.ProbeDeadline = deadline })
	first, last := &door{t: t, at: "127.110.1.60:7000"}, &door{t: t, at: "127.110.1.60:7002"}
	first.open()
	last.open()
	deaf(t, [4]byte{127, 110, 1, 60}, 7001)
	exposed(t, s, "127.110.1.60", "7000", "") // by name, too, the first time; after that its rounds are bare connections
	awaitState(t, s, probe.Opened, probe.StateReachable, deadline/2)
	edit := func(port string) {
		_, err := s.Client.EditService(t.Context(), "KET-07", "page", client.Fields{"external": port})
		require.NoError(t, err)
	}
	edit("7001")
	require.Eventually(t, func() bool { // a round is under way: a socket has sent a SYN to that port (proc(5))
		list, err := os.ReadFile("/proc/net/tcp")
		return err == nil && strings.Contains(string(list), fmt.Sprintf(":%04X 02", 7001))
	}, deadline/2, time.Millisecond)
	edit("7002")
	require.Eventually(t, func() bool { return last.knocks.Load() > 0 }, deadline/2, time.Millisecond)
}
