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
	"inkpost.example/inkpost/internal/wire/connect"
)

// most is how many octets are read in one attempt.
const most = 512 << 10

var errTooMuch = protocolError(fmt.Sprintf("it sent more than %d KiB, and was cut off", most>>10))

// attempt is one attempt under way.
type attempt struct {
	request Request
	began   time.Time
	end     time.Time // the deadline
	conn    net.Conn  // counted, with the deadline set
	took    time.Duration

	// Some packages leave a goroutine behind that goes on reading for a moment after the deadline.
	mu    sync.Mutex
	read  int // octets that came back, over all connections
	steps []Step
}

func (t *attempt) step(name, format string, args ...any) {
	if t.request.Brief {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.steps = append(t.steps, Step{Name: name, At: time.Since(t.began), Words: fmt.Sprintf(format, args...)})
}

func (t *attempt) trace() []Step {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.steps)
}

// count counts octets that came back, and gives how many there are by now.
func (t *attempt) count(n int) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.read += n
	return t.read
}

func (t *attempt) dial(ctx context.Context, network string, target netip.AddrPort) (net.Conn, error) {
	c, err := connect.Dial(ctx, connect.Request{Network: network, Target: target, From: t.request.From, Deadline: t.end})
	if err != nil {
		return nil, err
	}
	return &counted{Conn: c, talk: t}, nil
}

// counted bounds how much is read.
type counted struct {
	net.Conn
	talk *attempt
}

func (c *counted) Read(p []byte) (int, error) {
	if c.talk.count(0) >= most {
		return 0, errTooMuch
	}
	n, err := c.Conn.Read(p)
	c.talk.count(n)
	return n, err
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

// accepted is what came of a connection that nothing is said on.
const accepted = "connection accepted"

func (t *attempt) overTCP(ctx context.Context) Reply {
	var r Reply
	c, err := t.dial(ctx, "tcp", t.request.Target)
	t.took = time.Since(t.began)
	if err != nil {
		r.Signal, r.Message, r.ICMP = signal(ctx, err)
		t.step("connect", "%s: %s", t.request.Target, r.Message)
		r.Took, r.Steps = t.took, t.trace()
		return r
	}
	defer c.Close()
	t.conn, r.From = c, local(c)
	t.step("connect", "%s accepts a connection from %s", t.request.Target, r.From)
	speak := conversations[t.request.Kind]
	if speak == nil || t.request.Kind == probe.KindUDP {
		r.Signal, r.Message, r.Took, r.Steps = probe.SignalConnected, accepted, t.took, t.trace()
		return r
	}
	ctx, cancel := context.WithDeadline(ctx, t.end) // packages look at it; a bare connection needs no timer of its own
	defer cancel()
	h, err := speak(ctx, t)
	return t.conclude(ctx, r, h, err)
}

func (t *attempt) overUDP(ctx context.Context) Reply {
	ctx, cancel := context.WithDeadline(ctx, t.end)
	defer cancel()
	var r Reply
	c, err := t.dial(ctx, "udp", t.request.Target)
	if err != nil {
		r.Signal, r.Message, r.ICMP = signal(ctx, err)
		t.step("send", "%s: %s", t.request.Target, r.Message)
		r.Took, r.Steps = time.Since(t.began), t.trace()
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
	var strange protocolError
	if err != nil && t.count(0) == 0 && !errors.As(err, &strange) {
		r.Signal, r.Message, r.ICMP = signal(ctx, err)
		t.step("wait", "%s", r.Message)
		r.Took, r.Steps = t.took, t.trace()
		return r
	}
	return t.conclude(ctx, r, h, err)
}

// conclude decides the outcome of a conversation that the network let through.
func (t *attempt) conclude(ctx context.Context, r Reply, h reply, err error) Reply {
	r.Signal, r.Talk, r.Took = probe.SignalConnected, probe.TalkExpected, t.took
	r.Message, r.Fingerprint, r.Certificate, r.Weakness = h.words, h.fingerprint, h.certificate, h.weakness
	if err != nil {
		r.Talk = probe.TalkOther
		var strange protocolError
		var timeout net.Error
		switch {
		case errors.Is(ctx.Err(), context.Canceled):
			r.Signal, r.Message = probe.SignalLocal, "the attempt was cancelled"
		case errors.As(err, &strange):
			r.Message = string(strange)
		case t.count(0) == 0 && errors.As(err, &timeout) && timeout.Timeout():
			r.Message, r.Hung = "the connection was accepted, then nothing was said before the deadline", true
		case errors.As(err, &timeout) && timeout.Timeout():
			r.Message = fmt.Sprintf("it said %d octets, then nothing more before the deadline", t.count(0))
		case t.count(0) == 0:
			r.Message = "the connection was accepted, then cut off before anything was said"
		default:
			r.Message = "it does not speak " + string(t.request.Kind) + ": " + err.Error()
		}
	}
	t.step("conclude", "%s", r.Message)
	r.Steps = t.trace()
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
