package lab

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// dropPort holds a TCP port that never answers: from outside, a firewall that drops. Where the kernel lets us, by a filter that throws the
// packets away; where it does not (some ask for root), by a queue that is full.
func dropPort(at netip.AddrPort) (io.Closer, error) {
	c, err := filteredPort(at)
	if errors.Is(err, os.ErrPermission) {
		c, err = fullPort(at)
	}
	if err != nil {
		return nil, fmt.Errorf("drop %s: %w", at, err)
	}
	return c, nil
}

// fullPort listens with room for one connection (listen(2), a backlog of 0) and takes that place itself: the kernel drops
// whatever else comes.
func fullPort(at netip.AddrPort) (io.Closer, error) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	p := &occupied{fd: fd}
	if err := errors.Join(unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
		unix.Bind(fd, &unix.SockaddrInet4{Port: int(at.Port()), Addr: at.Addr().As4()})); err != nil {
		return nil, errors.Join(err, p.Close())
	}
	if err := unix.Listen(fd, 0); err != nil {
		return nil, errors.Join(err, p.Close())
	}
	if p.place, err = net.DialTimeout("tcp4", at.String(), time.Second); err != nil {
		return nil, errors.Join(err, p.Close())
	}
	return p, nil
}

// occupied is a listening socket whose only place is taken.
type occupied struct {
	fd    int
	place net.Conn
}

// Close implements io.Closer.
func (o *occupied) Close() error {
	err := unix.Close(o.fd)
	if o.place != nil {
		_ = o.place.(*net.TCPConn).SetLinger(0)
		err = errors.Join(err, o.place.Close())
	}
	return err
}
