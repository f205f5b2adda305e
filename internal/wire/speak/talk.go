package speak

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"inkpost.example/inkpost/internal/core/probe"
)

// most is how many octets are read in one attempt.
const most = 512 << 10

var errTooMuch = odd(fmt.Sprintf("it sent more than %d KiB, and was cut off", most>>10))

// talk is one attempt under way.
type talk struct {
	request Request
	began   time.Time
	conn    net.Conn // counted, with the deadline set
	took    time.Duration

	// Some packages leave a goroutine behind that reads on for a moment after the deadline.
	mu    sync.Mutex
	read  int // octets that came back, over all connections
	steps []Step
}

func (t *talk) step(name, format string, args ...any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.steps = append(t.steps, Step{Name: name, At: time.Since(t.began), Words: fmt.Sprintf(format, args...)})
}

func (t *talk) story() []Step {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.steps)
}

// came counts octets that came back, and gives how many there are by now.
func (t *talk) came(n int) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.read += n
	return t.read
}

func (t *talk) dial(ctx context.Context, network string, target netip.AddrPort) (net.Conn, error) {
	dialer := net.Dialer{KeepAlive: -1}
	if t.request.From.IsValid() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(t.request.From, 0))
		if network == "udp" {
			dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(t.request.From, 0))
		}
	}
	c, err := dialer.DialContext(ctx, network, target.String())
	if err != nil {
		return nil, err
	}
	if tcp, ok := c.(*net.TCPConn); ok {
		// Reset rather than linger: a probe leaves no TIME_WAIT behind, of which there would be thousands.
		_ = tcp.SetLinger(0)
	}
	end, _ := ctx.Deadline()
	_ = c.SetDeadline(end)
	// A probe that is called off ends at once, wherever it waits.
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	return &counted{Conn: c, talk: t, stop: stop}, nil
}

// counted bounds how much is read.
type counted struct {
	net.Conn
	talk *talk
	stop func() bool
}

func (c *counted) Read(p []byte) (int, error) {
	if c.talk.came(0) >= most {
		return 0, errTooMuch
	}
	n, err := c.Conn.Read(p)
	c.talk.came(n)
	return n, err
}

func (c *counted) Close() error {
	c.stop()
	return c.Conn.Close()
}

func local(c net.Conn) netip.AddrPort {
	switch a := c.LocalAddr().(type) {
	case *net.TCPAddr:
		return a.AddrPort()
	case *net.UDPAddr:
		return a.AddrPort()
	}
	return netip.AddrPort{}
}

func (t *talk) overTCP(ctx context.Context) Reply {
	var r Reply
	c, err := t.dial(ctx, "tcp", t.request.Target)
	t.took = time.Since(t.began)
	if err != nil {
		r.Signal, r.Said = signal(ctx, err)
		t.step("connect", "%s: %s", t.request.Target, r.Said)
		r.Took, r.Steps = t.took, t.story()
		return r
	}
	defer c.Close()
	t.conn, r.From = c, local(c)
	t.step("connect", "%s accepts a connection from %s", t.request.Target, r.From)
	speak := conversations[t.request.Kind]
	if speak == nil || t.request.Kind == probe.KindUDP {
		r.Signal, r.Said, r.Took, r.Steps = probe.SignalConnected, "connection accepted", t.took, t.story()
		return r
	}
	h, err := speak(ctx, t)
	return t.conclude(ctx, r, h, err)
}

func (t *talk) overUDP(ctx context.Context) Reply {
	var r Reply
	c, err := t.dial(ctx, "udp", t.request.Target)
	if err != nil {
		r.Signal, r.Said = signal(ctx, err)
		t.step("send", "%s: %s", t.request.Target, r.Said)
		r.Took, r.Steps = time.Since(t.began), t.story()
		return r
	}
	defer c.Close()
	t.conn, r.From = c, local(c)
	speak := conversations[t.request.Kind]
	if speak == nil {
		speak = speakUDP
	}
	h, err := speak(ctx, t)
	t.took = time.Since(t.began)
	var strange odd
	if err != nil && t.came(0) == 0 && !errors.As(err, &strange) {
		if r.Signal, r.Said = signal(ctx, err); r.Signal == probe.SignalReset {
			r.Said = "refused: ICMP says that nobody listens there"
		}
		t.step("wait", "%s", r.Said)
		r.Took, r.Steps = t.took, t.story()
		return r
	}
	return t.conclude(ctx, r, h, err)
}

// conclude says what a conversation came to, now that the network let it through.
func (t *talk) conclude(ctx context.Context, r Reply, h heard, err error) Reply {
	r.Signal, r.Talk, r.Took = probe.SignalConnected, probe.TalkExpected, t.took
	r.Said, r.Fingerprint, r.Certificate, r.Loose = h.words, h.fingerprint, h.certificate, h.loose
	if err != nil {
		r.Talk = probe.TalkOther
		var strange odd
		var timeout net.Error
		switch {
		case errors.Is(ctx.Err(), context.Canceled):
			r.Signal, r.Said = probe.SignalLocal, "the attempt was cancelled"
		case errors.As(err, &strange):
			r.Said = string(strange)
		case t.came(0) == 0 && errors.As(err, &timeout) && timeout.Timeout():
			r.Said = "the connection was accepted, then nothing was said before the deadline"
		case errors.As(err, &timeout) && timeout.Timeout():
			r.Said = fmt.Sprintf("it said %d octets, then nothing more before the deadline", t.came(0))
		case t.came(0) == 0:
			r.Said = "the connection was accepted, then cut off before anything was said"
		default:
			r.Said = "it does not speak " + string(t.request.Kind) + ": " + err.Error()
		}
	}
	t.step("conclude", "%s", r.Said)
	r.Steps = t.story()
	return r
}

// spoken shows what came over the wire: one line, printable, short.
func spoken(b []byte) string {
	line, _, _ := strings.Cut(strings.TrimLeft(string(b), "\r\n"), "\n")
	line = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) || r == unicode.ReplacementChar {
			return '.'
		}
		return r
	}, strings.TrimRight(line, "\r"))
	if r := []rune(line); len(r) > 120 {
		line = string(r[:120]) + "…"
	}
	return line
}
