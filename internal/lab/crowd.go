package lab

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/sys/unix"
)

// Crowd stands for the services of many sites that nothing happens to: it answers at all addresses of the loopback interface, which are
// theirs, on a few ports. Whoever connects is let in, and the connection is closed.
type Crowd struct{ listeners []net.Listener }

// NewCrowd opens a crowd. Error: a port that something else has.
func NewCrowd(ports []int) (*Crowd, error) {
	c := &Crowd{}
	loopback := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		var bound error
		err := raw.Control(func(fd uintptr) { bound = unix.BindToDevice(int(fd), "lo") }) // nothing from outside comes in
		return errors.Join(err, bound)
	}}
	for _, port := range ports {
		l, err := loopback.Listen(context.Background(), "tcp4", fmt.Sprintf("0.0.0.0:%d", port))
		if err != nil {
			c.Close()
			return nil, fmt.Errorf("the services of many sites: %w", err)
		}
		c.listeners = append(c.listeners, l)
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				_ = conn.Close()
			}
		}()
	}
	return c, nil
}

// CrowdAddress is the public address of the nth site of a crowd, from 0.
func CrowdAddress(n int) netip.Addr {
	return netip.AddrFrom4([4]byte{127, byte(112 + n/60000), byte(1 + n/240%250), byte(1 + n%240)})
}

// Close ends it.
func (c *Crowd) Close() {
	for _, l := range c.listeners {
		_ = l.Close()
	}
}
