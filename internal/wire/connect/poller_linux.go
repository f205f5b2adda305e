package connect

import (
	"context"
	"errors"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Poller connects to many targets at once, only to learn whether they accept. It waits for all of them in one place: a goroutine, a file
// and a timer for each cost as much as the half of a connection does. It is safe for concurrent use.
type Poller struct {
	patience time.Duration
	hand     func(task func())
	epoll    int // the kernel's list of sockets that something has come of: epoll(7)
	ready    *os.File
	raw      syscall.RawConn
	stopped  chan struct{} // closed when nothing more is handed on

	mu     sync.Mutex
	under  map[int32]*Attempt // under way, by descriptor
	line   []turn             // in order: all have the same patience
	serial uint64
	ended  []*Attempt // of which nobody was told yet
	closed bool
}

// turn is when an attempt has waited for long enough, if it is still under way then.
type turn struct {
	until  time.Time
	fd     int32
	serial uint64
}

// state is what a Poller keeps of an attempt.
type state struct {
	fd        int32 // -1 when no socket is open
	serial    uint64
	began     time.Time
	cancelled bool
	tried     Tried
}

// NewPoller returns a poller that gives up each attempt after patience. It calls hand with tasks that tell what came of some attempts,
// from a goroutine of its own that must not be held up. Error: that of the system.
func NewPoller(patience time.Duration, hand func(task func())) (*Poller, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, os.NewSyscallError("epoll_create1", err)
	}
	if err := unix.SetNonblock(fd, true); err != nil { // so that the runtime waits for it, which costs no thread
		_ = unix.Close(fd)
		return nil, os.NewSyscallError("fcntl", err)
	}
	p := &Poller{patience: patience, hand: hand, epoll: fd, ready: os.NewFile(uintptr(fd), "epoll"), stopped: make(chan struct{}),
		under: map[int32]*Attempt{}}
	if p.raw, err = p.ready.SyscallConn(); err != nil {
		_ = p.ready.Close()
		return nil, err
	}
	go p.run()
	return p, nil
}

// Start begins an attempt. Nobody waits for the network in it.
func (p *Poller) Start(a *Attempt) {
	a.began = time.Now()
	fd, err := open(Request{Network: "tcp", Target: a.Target})
	if a.fd = int32(fd); err != nil {
		a.fd = -1
	} else if err = unix.Connect(fd, sockaddr(a.Target)); errors.Is(err, unix.EINPROGRESS) {
		err = nil
	}
	p.mu.Lock()
	switch {
	case p.closed:
		p.mu.Unlock()
		a.tried.Err = context.Canceled
		a.tell()
		return
	case a.cancelled:
		p.end(a, context.Canceled)
	case err != nil:
		p.end(a, os.NewSyscallError("connect", err))
	default:
		p.serial++
		a.serial = p.serial
		p.under[a.fd] = a
		if p.line = append(p.line, turn{a.began.Add(p.patience), a.fd, a.serial}); len(p.line) == 1 {
			_ = p.ready.SetReadDeadline(p.line[0].until)
		}
		what := unix.EpollEvent{Events: unix.EPOLLOUT | unix.EPOLLET, Fd: a.fd}
		if err := unix.EpollCtl(p.epoll, unix.EPOLL_CTL_ADD, fd, &what); err != nil {
			p.end(a, os.NewSyscallError("epoll_ctl", err))
		}
	}
	p.mu.Unlock()
}

// wake has run go on at once. The caller holds p.mu.
func (p *Poller) wake() { _ = p.ready.SetReadDeadline(time.Unix(1, 0)) }

// Cancel ends an attempt, also one that has not begun yet. It does nothing to one that has ended.
func (p *Poller) Cancel(a *Attempt) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a.cancelled = true
	if a.serial != 0 && p.under[a.fd] == a {
		p.end(a, context.Canceled)
	}
}

// Close cancels all attempts, and returns when the last one has been handed on.
func (p *Poller) Close() {
	p.mu.Lock()
	p.closed = true
	for _, a := range p.under {
		p.end(a, context.Canceled)
	}
	p.wake()
	p.mu.Unlock()
	<-p.stopped
}

// end notes what came of an attempt, and has it handed on. The caller holds p.mu.
func (p *Poller) end(a *Attempt, err error) {
	a.tried.Took, a.tried.Err = time.Since(a.began), err
	if a.serial != 0 {
		delete(p.under, a.fd)
	}
	if p.ended = append(p.ended, a); len(p.ended) == 1 {
		p.wake()
	}
}

// tell closes the socket of an attempt that has ended, and says what came of it.
func (a *Attempt) tell() {
	fd := int(a.fd)
	if a.tried.Err != nil {
		f := &Failure{Err: a.tried.Err}
		if fd >= 0 {
			f.ICMP = lastICMP(fd)
		}
		a.tried.Err = f
	} else if own, err := unix.Getsockname(fd); err == nil {
		a.tried.From = addrPort(own)
	}
	if fd >= 0 {
		_ = unix.Close(fd)
	}
	a.Done(a.tried)
}

// run hands on what came of attempts until the poller is closed. Nobody else does.
func (p *Poller) run() {
	defer close(p.stopped)
	defer p.ready.Close()
	var events [64]unix.EpollEvent
	for closed := false; !closed; {
		n := 0
		_ = p.raw.Read(func(fd uintptr) bool { // it fails at the deadline, which is when there is something else to do
			n, _ = unix.EpollWait(int(fd), events[:], 0)
			return n > 0
		})
		ended := make([]*Attempt, 0, max(n, 1))
		for _, e := range events[:max(n, 0)] {
			if a := p.decided(e.Fd); a != nil {
				ended = append(ended, a)
			}
		}
		p.mu.Lock()
		p.expire(time.Now())
		ended = append(ended, p.ended...)
		p.ended, closed = p.ended[:0], p.closed
		p.mu.Unlock()
		if len(ended) > 0 {
			p.hand(func() {
				for _, a := range ended {
					a.tell()
				}
			})
		}
	}
}

// decided takes an attempt out of those under way, if something came of it; nil if not.
func (p *Poller) decided(fd int32) *Attempt {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.under[fd]
	if a == nil {
		return nil // cancelled meanwhile
	}
	err, done := decided(int(fd))
	if !done {
		return nil
	}
	a.tried.Took, a.tried.Err = time.Since(a.began), err
	delete(p.under, fd)
	return a
}

// expire ends the attempts that have waited for long enough, and sets when that is for the next one. The caller holds p.mu.
func (p *Poller) expire(now time.Time) {
	for len(p.line) > 0 {
		first := p.line[0]
		a := p.under[first.fd]
		if waits := a != nil && a.serial == first.serial; waits && first.until.After(now) {
			break
		} else if waits {
			p.end(a, os.ErrDeadlineExceeded)
		}
		p.line = p.line[1:]
	}
	var next time.Time
	if len(p.line) > 0 {
		next = p.line[0].until
	}
	_ = p.ready.SetReadDeadline(next)
}
