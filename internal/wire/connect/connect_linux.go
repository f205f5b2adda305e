package connect

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"inkpost.example/inkpost/internal/core/probe"
)

// Able reports whether the system tells who sent an ICMP message, and lets a program limit hops.
const Able = true

// conn is a socket. Its descriptor is the runtime's, so that waiting costs no thread.
type conn struct {
	*os.File
	udp           bool
	local, remote netip.AddrPort
	stop          func() bool // has the end of the context do nothing more
}

// Dial connects as r says; over UDP, it only opens the socket. A TCP connection is reset when it is closed, so that nothing of it stays
// behind. The end of ctx is a deadline, too, until the connection is closed. Errors: a *Failure with the system's error and the ICMP
// message that ended the attempt; os.ErrDeadlineExceeded in it at the deadline or when ctx ends.
func Dial(ctx context.Context, r Request) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, &Failure{Err: err}
	}
	fd, err := open(r)
	if err != nil {
		return nil, &Failure{Err: err}
	}
	err = unix.Connect(fd, sockaddr(r.Target))
	if err != nil && !errors.Is(err, unix.EINPROGRESS) {
		failure := &Failure{Err: os.NewSyscallError("connect", err), ICMP: lastICMP(fd)}
		_ = unix.Close(fd)
		return nil, failure
	}
	c := &conn{File: os.NewFile(uintptr(fd), "probe"), udp: r.Network == "udp", remote: r.Target}
	_ = c.SetDeadline(r.Deadline)
	c.stop = context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	if err != nil {
		err = c.connected()
	}
	if err != nil {
		failure := &Failure{Err: err, ICMP: c.icmp()}
		_ = c.Close()
		return nil, failure
	}
	c.local = c.name()
	return c, nil
}

// Close implements net.Conn.
func (c *conn) Close() error {
	c.stop()
	return c.File.Close()
}

func open(r Request) (fd int, err error) {
	family, kind := unix.AF_INET6, unix.SOCK_STREAM
	if r.Target.Addr().Unmap().Is4() {
		family = unix.AF_INET
	}
	if r.Network == "udp" {
		kind = unix.SOCK_DGRAM
	}
	fd, err = unix.Socket(family, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return fd, os.NewSyscallError("socket", err)
	}
	level, recvErr, hops := unix.IPPROTO_IP, unix.IP_RECVERR, unix.IP_TTL
	if family == unix.AF_INET6 {
		level, recvErr, hops = unix.IPPROTO_IPV6, unix.IPV6_RECVERR, unix.IPV6_UNICAST_HOPS
	}
	err = unix.SetsockoptInt(fd, level, recvErr, 1)
	if err == nil && r.Hops > 0 {
		err = unix.SetsockoptInt(fd, level, hops, r.Hops)
	}
	if err == nil && kind == unix.SOCK_STREAM {
		// Reset rather than linger: a probe leaves no TIME_WAIT behind, of which there would be thousands.
		err = unix.SetsockoptLinger(fd, unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1})
		if err == nil { // as net.Dial does: a conversation must not wait for acknowledgements
			err = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1)
		}
	}
	if err == nil && r.From.IsValid() {
		err = unix.Bind(fd, sockaddr(netip.AddrPortFrom(r.From, 0)))
	}
	if err != nil {
		_ = unix.Close(fd)
		return fd, os.NewSyscallError("set up a socket", err)
	}
	return fd, nil
}

func sockaddr(a netip.AddrPort) unix.Sockaddr {
	if ip := a.Addr().Unmap(); ip.Is4() {
		return &unix.SockaddrInet4{Port: int(a.Port()), Addr: ip.As4()}
	}
	out := &unix.SockaddrInet6{Port: int(a.Port()), Addr: a.Addr().As16()}
	if n, err := net.InterfaceByName(a.Addr().Zone()); err == nil {
		out.ZoneId = uint32(n.Index)
	}
	return out
}

func addrPort(a unix.Sockaddr) netip.AddrPort {
	switch a := a.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrPortFrom(netip.AddrFrom4(a.Addr), uint16(a.Port))
	case *unix.SockaddrInet6:
		return netip.AddrPortFrom(netip.AddrFrom16(a.Addr), uint16(a.Port))
	}
	return netip.AddrPort{}
}

// connected waits until a connection is made or has failed.
func (c *conn) connected() error {
	raw, err := c.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = raw.Write(func(fd uintptr) (done bool) {
		failed, done = decided(int(fd))
		return done
	})
	if err != nil {
		return err
	}
	return failed
}

// decided reports whether a connection is made or has failed, and why.
func decided(fd int) (err error, done bool) {
	if _, err := unix.Getpeername(fd); err == nil {
		return nil, true
	}
	n, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_ERROR)
	switch {
	case err != nil:
		return os.NewSyscallError("getsockopt", err), true
	case n != 0:
		return os.NewSyscallError("connect", unix.Errno(n)), true
	}
	_, err = unix.Getpeername(fd) // not yet, unless it is connected by now
	return nil, err == nil
}

func (c *conn) name() (own netip.AddrPort) {
	if raw, err := c.SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) {
			if a, err := unix.Getsockname(int(fd)); err == nil {
				own = addrPort(a)
			}
		})
	}
	return own
}

// icmp takes the newest ICMP message of the socket.
func (c *conn) icmp() (m probe.ICMP) {
	if raw, err := c.SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) { m = lastICMP(int(fd)) })
	}
	return m
}

// lastICMP reads the socket's queue of errors to its end.
func lastICMP(fd int) (m probe.ICMP) {
	oob, data := make([]byte, 512), make([]byte, 128)
	for {
		_, n, _, _, err := unix.Recvmsg(fd, data, oob, unix.MSG_ERRQUEUE|unix.MSG_DONTWAIT)
		if err != nil {
			return m
		}
		list, _ := unix.ParseSocketControlMessage(oob[:n])
		for _, one := range list {
			if got, ok := extended(one); ok {
				m = got
			}
		}
	}
}

// extended reads a sock_extended_err, which is followed by the address of who sent the message.
func extended(c unix.SocketControlMessage) (m probe.ICMP, ok bool) {
	v4 := c.Header.Level == unix.IPPROTO_IP && c.Header.Type == unix.IP_RECVERR
	v6 := c.Header.Level == unix.IPPROTO_IPV6 && c.Header.Type == unix.IPV6_RECVERR
	if !v4 && !v6 || len(c.Data) < 16+8 {
		return m, false
	}
	if origin := c.Data[4]; origin != unix.SO_EE_ORIGIN_ICMP && origin != unix.SO_EE_ORIGIN_ICMP6 {
		return m, false
	}
	m.Type, m.Code = c.Data[5], c.Data[6]
	sender := c.Data[16:]
	switch family := binary.NativeEndian.Uint16(sender); {
	case family == unix.AF_INET:
		m.From, ok = netip.AddrFromSlice(sender[4:8])
	case family == unix.AF_INET6 && len(sender) >= 24:
		m.From, ok = netip.AddrFromSlice(sender[8:24])
	}
	return m, ok
}

// Read implements net.Conn. An error has the ICMP message that caused it.
func (c *conn) Read(p []byte) (int, error) {
	n, err := c.File.Read(p)
	if c.udp && errors.Is(err, io.EOF) {
		return 0, nil // an empty datagram
	}
	return n, c.told(err)
}

// Write implements net.Conn.
func (c *conn) Write(p []byte) (int, error) {
	if c.udp && len(p) == 0 { // os.File writes nothing then
		return 0, c.told(c.writeEmpty())
	}
	n, err := c.File.Write(p)
	return n, c.told(err)
}

func (c *conn) writeEmpty() error {
	raw, err := c.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = raw.Write(func(fd uintptr) bool {
		failed = unix.Send(int(fd), nil, 0)
		return !errors.Is(failed, unix.EAGAIN)
	})
	return errors.Join(err, failed)
}

// told adds the ICMP message that caused an error.
func (c *conn) told(err error) error {
	if err == nil || errors.Is(err, io.EOF) || errors.Is(err, os.ErrDeadlineExceeded) {
		return err
	}
	return &Failure{Err: err, ICMP: c.icmp()}
}

// LocalAddr implements net.Conn.
func (c *conn) LocalAddr() net.Addr { return c.addr(c.local) }

// RemoteAddr implements net.Conn.
func (c *conn) RemoteAddr() net.Addr { return c.addr(c.remote) }

func (c *conn) addr(a netip.AddrPort) net.Addr {
	if c.udp {
		return net.UDPAddrFromAddrPort(a)
	}
	return net.TCPAddrFromAddrPort(a)
}
