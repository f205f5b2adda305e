package connect_test

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
	"inkpost.example/inkpost/internal/wire/connect"
)

func soon() time.Time { return time.Now().Add(2 * time.Second) }

func TestAConnectionIsMadeAndSpokenOver(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			_, _ = c.Write([]byte("hello"))
			_, _ = c.Read(make([]byte, 1))
			_ = c.Close()
		}
	}()
	at := l.Addr().(*net.TCPAddr).AddrPort()
	c, err := connect.Dial(t.Context(), connect.Request{Network: "tcp", Target: at, From: netip.MustParseAddr("127.0.0.9"),
		Deadline: soon()})
	require.NoError(t, err)
	defer c.Close()
	buffer := make([]byte, 10)
	n, err := c.Read(buffer)
	require.NoError(t, err)
	require.Equal(t, "hello", string(buffer[:n]))
	require.Equal(t, "127.0.0.9", c.LocalAddr().(*net.TCPAddr).AddrPort().Addr().String())
	require.Equal(t, at.String(), c.RemoteAddr().String())
	require.NoError(t, c.SetReadDeadline(time.Now().Add(-time.Second)))
	_, err = c.Read(buffer)
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	var timeout net.Error
	require.True(t, errors.As(err, &timeout) && timeout.Timeout(), "as of any connection")
}

func TestTheEndOfTheContextEndsTheReading(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	ctx, cancel := context.WithCancel(t.Context())
	c, err := connect.Dial(ctx, connect.Request{Network: "tcp", Target: l.Addr().(*net.TCPAddr).AddrPort(),
		Deadline: time.Now().Add(time.Minute)})
	require.NoError(t, err)
	defer c.Close()
	failed := make(chan error, 1)
	go func() { _, err := c.Read(make([]byte, 1)); failed <- err }()
	cancel()
	select {
	case err = <-failed:
		require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	case <-time.After(5 * time.Second):
		t.Fatal("it still reads")
	}
}

func TestAFailureSaysWhatAndWho(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().(*net.TCPAddr).AddrPort()
	require.NoError(t, l.Close())
	_, err = connect.Dial(t.Context(), connect.Request{Network: "tcp", Target: at, Deadline: soon()})
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
	var f *connect.Failure
	require.ErrorAs(t, err, &f)
	require.False(t, f.ICMP.Came(), "a reset is no ICMP")

	c, err := connect.Dial(t.Context(), connect.Request{Network: "udp", Target: at, Deadline: soon()})
	require.NoError(t, err, "over UDP nothing is sent yet")
	defer c.Close()
	_, err = c.Write(nil)
	require.NoError(t, err, "an empty datagram")
	_, err = c.Read(make([]byte, 1))
	require.ErrorAs(t, err, &f)
	require.Equal(t, probe.ICMP{Type: 3, Code: 3, From: netip.MustParseAddr("127.0.0.1")}, f.ICMP)
	require.ErrorContains(t, err, "port unreachable (ICMP 3/3) from 127.0.0.1")

	ended, end := context.WithCancel(t.Context())
	end()
	_, err = connect.Dial(ended, connect.Request{Network: "tcp", Target: at, Deadline: soon()})
	require.ErrorIs(t, err, context.Canceled)
	_, err = connect.Dial(t.Context(), connect.Request{Network: "tcp", Target: at, From: netip.MustParseAddr("203.0.113.9"),
		Deadline: soon()})
	require.ErrorIs(t, err, syscall.EADDRNOTAVAIL, "an address that this machine does not have")
}

func TestAnEmptyDatagramIsAnAnswer(t *testing.T) {
	other, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer other.Close()
	go func() {
		if _, from, err := other.ReadFrom(make([]byte, 10)); err == nil {
			_, _ = other.WriteTo(nil, from)
		}
	}()
	c, err := connect.Dial(t.Context(), connect.Request{Network: "udp", Target: other.LocalAddr().(*net.UDPAddr).AddrPort(), Hops: 1,
		Deadline: soon()})
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("who is there"))
	require.NoError(t, err)
	n, err := c.Read(make([]byte, 10))
	require.NoError(t, err)
	require.Zero(t, n)
}
