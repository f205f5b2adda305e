package tcpport

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestConnect(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().(*net.TCPAddr).AddrPort()
	came := make(chan error, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			_, err = c.Read(make([]byte, 1))
			_ = c.Close()
		}
		came <- err
	}()
	a := Connect(t.Context(), at, time.Second)
	require.Equal(t, probe.SignalConnected, a.Signal)
	require.Equal(t, "127.0.0.1", a.From.Addr().String())
	require.Positive(t, a.Took)
	require.ErrorIs(t, <-came, syscall.ECONNRESET, "the probe leaves by reset, and keeps no socket waiting")

	require.NoError(t, l.Close())
	a = Connect(t.Context(), at, time.Second)
	require.Equal(t, probe.SignalReset, a.Signal)
	require.Contains(t, a.Said, "refused")
	require.False(t, a.From.IsValid())

	gone, cancel := context.WithCancel(t.Context())
	cancel()
	require.Equal(t, probe.SignalLocal, Connect(gone, at, time.Second).Signal, "a probe that was cancelled says nothing about the service")
}

func TestAPortWithoutRoomIsSilentUntilTheDeadline(t *testing.T) {
	// A listener that is never accepted from, with its queue full, leaves further connections unanswered.
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	require.NoError(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	require.NoError(t, syscall.Listen(fd, 0))
	name, err := syscall.Getsockname(fd)
	require.NoError(t, err)
	at := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(name.(*syscall.SockaddrInet4).Port))
	for range 4 {
		c, err := net.DialTimeout("tcp", at.String(), 100*time.Millisecond)
		if err != nil {
			break
		}
		t.Cleanup(func() { _ = c.Close() })
	}
	began := time.Now()
	a := Connect(t.Context(), at, 200*time.Millisecond)
	require.Equal(t, probe.SignalTimeout, a.Signal)
	require.GreaterOrEqual(t, time.Since(began), 200*time.Millisecond)
	require.Less(t, time.Since(began), 2*time.Second, "a probe never holds its slot past its deadline")
}

func TestSignal(t *testing.T) {
	for err, want := range map[error]probe.Signal{
		syscall.ECONNREFUSED: probe.SignalReset, syscall.ECONNRESET: probe.SignalReset, syscall.EHOSTUNREACH: probe.SignalNoRoute, syscall.ENETUNREACH: probe.SignalNoRoute,
		syscall.EACCES: probe.SignalNoRoute, syscall.ETIMEDOUT: probe.SignalTimeout, os.ErrDeadlineExceeded: probe.SignalTimeout, syscall.EMFILE: probe.SignalLocal,
		syscall.EADDRNOTAVAIL: probe.SignalLocal, errors.New("strange"): probe.SignalLocal,
	} {
		got, said := signal(&net.OpError{Op: "dial", Err: err})
		require.Equal(t, want, got, err)
		require.NotEmpty(t, said)
	}
}
