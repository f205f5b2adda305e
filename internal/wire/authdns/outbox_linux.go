package authdns

import (
	"net"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// replyAddr is where a reply goes: to whoever asked, from the address that was asked.
type replyAddr struct {
	name    unix.RawSockaddrInet6
	length  uint32
	control []byte
}

// replyAddr returns where a later reply to the ith packet goes.
func (b *batch) replyAddr(i int) replyAddr {
	p := replyAddr{name: b.names[i], length: b.in[i].header.Namelen}
	if b.wild {
		p.control = append([]byte(nil), b.source(i)...)
	}
	return p
}

// outbox sends replies that are ready later than their batch: those that are ready together in one system call. It may be
// used by many goroutines.
type outbox struct {
	mu      sync.Mutex
	raw     syscall.RawConn
	letters [batchSize]queuedReply
	out     [batchSize]message
	outs    [batchSize]unix.Iovec
	count   int
	at      int
	errno   syscall.Errno
	sending func(fd uintptr) bool
}

type queuedReply struct {
	to   replyAddr
	text []byte
}

func newOutbox(conn *net.UDPConn) (*outbox, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return nil, err
	}
	b := &outbox{raw: raw}
	b.sending = func(fd uintptr) bool {
		n, _, errno := unix.RawSyscall6(unix.SYS_SENDMMSG, fd, uintptr(unsafe.Pointer(&b.out[b.at])), uintptr(b.count-b.at),
			unix.MSG_DONTWAIT, 0, 0)
		b.errno = errno
		if errno == 0 {
			b.at += int(n)
		}
		return errno != unix.EAGAIN
	}
	return b, nil
}

// post takes a reply. With more, another follows at once, and this one may wait for it.
func (b *outbox) post(to replyAddr, text []byte, more bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l := &b.letters[b.count]
	l.to, l.text = to, text
	h := &b.out[b.count].header
	*h = unix.Msghdr{Name: (*byte)(unsafe.Pointer(&l.to.name)), Namelen: l.to.length, Iov: &b.outs[b.count]}
	h.SetIovlen(1)
	b.outs[b.count].Base = &l.text[0]
	b.outs[b.count].SetLen(len(l.text))
	if len(l.to.control) > 0 {
		h.Control = &l.to.control[0]
		h.SetControllen(len(l.to.control))
	}
	if b.count++; more && b.count < batchSize {
		return
	}
	for b.at = 0; b.at < b.count; {
		if b.raw.Write(b.sending) != nil {
			break
		}
		if b.errno != 0 {
			b.at++ // this one cannot be sent
		}
	}
	b.count = 0
}
