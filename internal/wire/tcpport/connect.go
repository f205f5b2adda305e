// Package tcpport probes a TCP port by connecting to it (RFC 9293 section 3.5) and nothing more.
package tcpport

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Attempt is the story of one connection attempt.
type Attempt struct {
	Signal probe.Signal
	From   netip.AddrPort // where we connected from; zero where nothing was opened
	Took   time.Duration  // until connected, or until the network said no; the deadline where it said nothing
	Said   string         // what the network said, in words
}

// Connect tries to open a connection to target before the deadline and closes it at once.
func Connect(ctx context.Context, target netip.AddrPort, deadline time.Duration) Attempt {
	began := time.Now()
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	dialer := net.Dialer{KeepAlive: -1}
	c, err := dialer.DialContext(ctx, "tcp", target.String())
	a := Attempt{Took: time.Since(began)}
	if err != nil {
		a.Signal, a.Said = signal(err)
		return a
	}
	if local, ok := c.LocalAddr().(*net.TCPAddr); ok {
		a.From = local.AddrPort()
	}
	// Reset rather than linger: a probe leaves no TIME_WAIT behind, of which there would be thousands.
	_ = c.(*net.TCPConn).SetLinger(0)
	_ = c.Close()
	a.Signal, a.Said = probe.SignalConnected, "connection accepted"
	return a
}

func signal(err error) (probe.Signal, string) {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET):
		return probe.SignalReset, "connection refused (RST)"
	case errors.Is(err, context.Canceled):
		return probe.SignalLocal, "the attempt was cancelled"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, syscall.ETIMEDOUT), errors.As(err, &timeout) && timeout.Timeout():
		return probe.SignalTimeout, "no answer before the deadline"
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		return probe.SignalNoRoute, "the network reports no way there"
	}
	return probe.SignalLocal, "this machine could not try: " + err.Error()
}
