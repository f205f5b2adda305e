package authdns

import (
	"encoding/binary"
	"net"
	"net/netip"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// replySize holds any reply over UDP, and little more, so that those of a batch lie close together.
const replySize = 2048

// batchSize is how many packets go through one system call at most. The kernel's own work for a packet is larger than ours:
// entering it once for many is what lets one processor answer as many questions as it can. golang.org/x/net does the same and makes an
// address for each packet, which costs 7 to 13 % more of a processor (BenchmarkBatch).
//
// Neither call ever waits, so they go past Go's scheduler (RawSyscall6): told of them, it takes those of many packets, 50 µs and more, for
// calls that wait, and gives the processor to another thread, only to take it back. That cost a fifth of what an answer takes.
const batchSize = 64

// batch takes packets from a socket and gives their replies back, many in one system call (recvmmsg, sendmmsg). It has one
// user.
type batch struct {
	raw          syscall.RawConn
	wild         bool // the socket is bound to no address: replies have to come from the one that was asked
	in, out      [batchSize]message
	names        [batchSize]unix.RawSockaddrInet6 // large enough for both families
	parts, outs  [batchSize]unix.Iovec
	controls     [batchSize][64]byte
	buffers      [batchSize][maxQuery]byte
	replies      [batchSize][]byte
	count, ready int
	got          int
	errno        syscall.Errno
	// The two calls as functions that RawConn runs; made once, so that no packet costs an allocation.
	receiving, sending func(fd uintptr) bool
}

// message is struct mmsghdr of recvmmsg(2).
type message struct {
	header unix.Msghdr
	length uint32
	_      [4]byte
}

func newBatch(conn *net.UDPConn) (*batch, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return nil, err
	}
	b := &batch{raw: raw}
	if at, ok := conn.LocalAddr().(*net.UDPAddr); ok && at.IP.IsUnspecified() {
		b.wild = true
		err := raw.Control(func(fd uintptr) {
			// A socket of IPv6 says it in IPv6's way of packets over IPv4, too. Asked for both ways it would say both, which is more than
			// one reply takes.
			if family, _ := unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_DOMAIN); family == unix.AF_INET6 {
				_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_RECVPKTINFO, 1)
			} else {
				_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_PKTINFO, 1)
			}
		})
		if err != nil {
			return nil, err
		}
	}
	b.count = batchSize
	for i := range batchSize {
		b.replies[i] = make([]byte, replySize)
		b.parts[i].Base = &b.buffers[i][0]
		b.parts[i].SetLen(maxQuery)
		h := &b.in[i].header
		h.Name, h.Iov = (*byte)(unsafe.Pointer(&b.names[i])), &b.parts[i]
		h.SetIovlen(1)
	}
	b.receiving = func(fd uintptr) bool {
		n, _, errno := unix.RawSyscall6(unix.SYS_RECVMMSG, fd, uintptr(unsafe.Pointer(&b.in[0])), batchSize, unix.MSG_DONTWAIT, 0, 0)
		b.got, b.errno = int(n), errno
		return errno != unix.EAGAIN
	}
	b.sending = func(fd uintptr) bool {
		n, _, errno := unix.RawSyscall6(unix.SYS_SENDMMSG, fd, uintptr(unsafe.Pointer(&b.out[b.got])), uintptr(b.ready-b.got),
			unix.MSG_DONTWAIT, 0, 0)
		b.errno = errno
		if errno == 0 {
			b.got += int(n)
		}
		return errno != unix.EAGAIN
	}
	return b, nil
}

// receive waits for packets and returns how many there are.
func (b *batch) receive() (int, error) {
	for i := range b.count { // what the last call used is made ready again
		b.reset(i)
	}
	if err := b.raw.Read(b.receiving); err != nil {
		return 0, err
	}
	b.count, b.ready = 0, 0
	if b.errno != 0 { // such as an ICMP error about an earlier reply
		return 0, nil
	}
	b.count = b.got
	return b.count, nil
}

func (b *batch) reset(i int) {
	h := &b.in[i].header
	h.Namelen = unix.SizeofSockaddrInet6
	h.Control, h.Controllen = nil, 0
	if b.wild {
		h.Control = &b.controls[i][0]
		h.SetControllen(len(b.controls[i]))
	}
}

// packet is the ith packet received.
func (b *batch) packet(i int) []byte { return b.buffers[i][:min(int(b.in[i].length), maxQuery)] }

// from is who sent the ith packet.
func (b *batch) from(i int) netip.AddrPort {
	name := &b.names[i]
	raw := (*[unix.SizeofSockaddrInet6]byte)(unsafe.Pointer(name))
	port := binary.BigEndian.Uint16(raw[2:])
	if name.Family == unix.AF_INET {
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte(raw[4:8])), port)
	}
	return netip.AddrPortFrom(netip.AddrFrom16([16]byte(raw[8:24])), port)
}

// source returns the ith packet's control message with the interface left to the routes.
func (b *batch) source(i int) []byte {
	n := int(b.in[i].header.Controllen)
	c := b.controls[i][:n]
	if n < unix.SizeofCmsghdr {
		return nil
	}
	h := (*unix.Cmsghdr)(unsafe.Pointer(&c[0]))
	data := c[unix.CmsgLen(0):]
	switch {
	case h.Level == unix.IPPROTO_IP && h.Type == unix.IP_PKTINFO && len(data) >= unix.SizeofInet4Pktinfo:
		clear(data[:4])
	case h.Level == unix.IPPROTO_IPV6 && h.Type == unix.IPV6_PKTINFO && len(data) >= unix.SizeofInet6Pktinfo:
		clear(data[16:20])
	default:
		return nil
	}
	return c
}

// reply queues the first n octets of buffer i as the reply to the ith packet.
func (b *batch) reply(i, n int) {
	at := b.ready
	b.outs[at].Base = &b.replies[i][0]
	b.outs[at].SetLen(n)
	h := &b.out[at].header
	h.Name, h.Namelen = b.in[i].header.Name, b.in[i].header.Namelen
	h.Iov = &b.outs[at]
	h.SetIovlen(1)
	h.Control, h.Controllen = nil, 0
	if b.wild {
		if c := b.source(i); len(c) > 0 {
			h.Control = &c[0]
			h.SetControllen(len(c))
		}
	}
	b.ready++
}

// send returns all queued replies to the kernel and returns how many it took. One that cannot be sent is left out, as any packet may be
// lost.
func (b *batch) send() (sent int) {
	for b.got = 0; b.got < b.ready; {
		before := b.got
		if b.raw.Write(b.sending) != nil {
			break
		}
		if b.errno != 0 {
			b.got++ // this one cannot be sent
			continue
		}
		sent += b.got - before
	}
	b.ready = 0
	return sent
}
