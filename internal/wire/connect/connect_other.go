//go:build !linux

package connect

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"time"
)

// Able reports whether the system tells who sent an ICMP message, and lets a program limit hops.
const Able = false

// conn is a connection for which the end of a context is a deadline.
type conn struct {
	net.Conn
	stop func() bool
}

// Close implements net.Conn.
func (c conn) Close() error {
	c.stop()
	return c.Conn.Close()
}

// Dial connects as r says. The end of ctx is a deadline, too, until the connection is closed. Error: a *Failure.
func Dial(ctx context.Context, r Request) (net.Conn, error) {
	if r.Hops != 0 {
		return nil, &Failure{Err: errors.ErrUnsupported}
	}
	dialer := net.Dialer{KeepAlive: -1, Deadline: r.Deadline}
	if r.From.IsValid() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(r.From, 0))
		if r.Network == "udp" {
			dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(r.From, 0))
		}
	}
	c, err := dialer.DialContext(ctx, r.Network, r.Target.String())
	if err != nil {
		return nil, &Failure{Err: err}
	}
	if tcp, ok := c.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
	_ = c.SetDeadline(r.Deadline)
	return conn{c, context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })}, nil
}
