package connect_test

import (
	"context"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/wire/connect"
)

// poller starts attempts and waits for what comes of them.
type poller struct {
	*connect.Poller
	t *testing.T
}

func polling(t *testing.T, patience time.Duration) poller {
	p, err := connect.NewPoller(patience, func(task func()) { go task() })
	require.NoError(t, err)
	return poller{p, t}
}

func (p poller) start(target netip.AddrPort) (a *connect.Attempt, tried chan connect.Tried) {
	tried = make(chan connect.Tried, 2)
	a = &connect.Attempt{Target: target, Done: func(t connect.Tried) { tried <- t }}
	p.Start(a)
	return a, tried
}

func (p poller) one(tried chan connect.Tried) connect.Tried {
	select {
	case got := <-tried:
		return got
	case <-time.After(20 * time.Second):
		p.t.Fatal("nothing came of it")
		return connect.Tried{}
	}
}

func listening(t *testing.T) *net.TCPListener {
	l, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// mute returns a target that says nothing to a connection: its queue of connections that nobody accepts is full.
func mute(t *testing.T) netip.AddrPort {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	require.NoError(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	require.NoError(t, syscall.Listen(fd, 0))
	own, err := syscall.Getsockname(fd)
	require.NoError(t, err)
	at := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(own.(*syscall.SockaddrInet4).Port))
	first, err := net.DialTimeout("tcp", at.String(), 5*time.Second)
	require.NoError(t, err)
	t.Cleanup(func() { _ = first.Close() })
	return at
}

func TestAPollerSaysWhatCameOfEachOfMany(t *testing.T) {
	p := polling(t, 10*time.Second)
	defer p.Close()
	open := listening(t)
	go func() {
		for {
			c, err := open.Accept()
			if err != nil {
				return
			}
			_, _ = c.Read(make([]byte, 1))
			_ = c.Close()
		}
	}()
	closing := listening(t)
	shut := closing.Addr().(*net.TCPAddr).AddrPort()
	require.NoError(t, closing.Close())
	at := open.Addr().(*net.TCPAddr).AddrPort()

	const many = 400
	var all sync.WaitGroup
	got := make([]connect.Tried, many)
	for i := range many {
		all.Add(1)
		target := at
		if i%2 == 1 {
			target = shut
		}
		go p.Start(&connect.Attempt{Target: target, Done: func(t connect.Tried) { got[i] = t; all.Done() }})
	}
	all.Wait()
	for i, tried := range got {
		require.Positive(t, tried.Took)
		require.Less(t, tried.Took, 10*time.Second)
		if i%2 == 1 {
			require.ErrorIs(t, tried.Err, syscall.ECONNREFUSED)
			require.False(t, tried.From.IsValid())
			continue
		}
		require.NoError(t, tried.Err)
		require.Equal(t, at.Addr(), tried.From.Addr())
		require.NotZero(t, tried.From.Port())
	}
}

func TestAPollerGivesUpAfterItsPatience(t *testing.T) {
	p := polling(t, 300*time.Millisecond)
	defer p.Close()
	at := mute(t)
	_, first := p.start(at)
	_, second := p.start(at)
	for _, tried := range []chan connect.Tried{first, second} {
		got := p.one(tried)
		require.ErrorIs(t, got.Err, os.ErrDeadlineExceeded)
		require.GreaterOrEqual(t, got.Took, 300*time.Millisecond)
	}
	_, again := p.start(at) // also when nothing was under way for a while
	require.ErrorIs(t, p.one(again).Err, os.ErrDeadlineExceeded)
}

func TestAnAttemptThatIsCancelledEndsAtOnceAndOnce(t *testing.T) {
	p := polling(t, time.Minute)
	at := mute(t)
	a, tried := p.start(at)
	p.Cancel(a)
	p.Cancel(a)
	require.ErrorIs(t, p.one(tried).Err, context.Canceled)

	early := make(chan connect.Tried, 2)
	b := &connect.Attempt{Target: at, Done: func(t connect.Tried) { early <- t }}
	p.Cancel(b) // before it has begun
	p.Start(b)
	require.ErrorIs(t, p.one(early).Err, context.Canceled)

	_, waiting := p.start(at)
	p.Close()
	require.ErrorIs(t, p.one(waiting).Err, context.Canceled, "the end of the poller is the end of all that is under way")
	_, late := p.start(at)
	require.ErrorIs(t, p.one(late).Err, context.Canceled)
	require.Empty(t, tried)
	require.Empty(t, early)
	require.Empty(t, waiting)
}

func TestAnAttemptThatCannotBeMadeSaysWhy(t *testing.T) {
	p := polling(t, time.Minute)
	defer p.Close()
	_, tried := p.start(netip.MustParseAddrPort("255.255.255.255:9")) // everybody at once
	got := p.one(tried)
	var failure *connect.Failure
	require.ErrorAs(t, got.Err, &failure)
	require.False(t, got.From.IsValid())
}
