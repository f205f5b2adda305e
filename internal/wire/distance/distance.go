// Package distance finds out how far packets to a port get: it sends the first packet of a connection, or a datagram, with one hop limit
// after another, and keeps what comes back and from whom. It needs no rights, and Linux.
package distance

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/connect"
)

// Request says what to measure.
type Request struct {
	Transport probe.Transport // tcp or udp
	Target    netip.AddrPort
	From      netip.Addr     // local address; the system's choice if zero
	Limits    []int          // 1 to 255 each
	Payload   []byte         // of the datagram, over UDP
	Wait      time.Duration  // how long an answer may take; default 700 ms
	Sent      *atomic.Uint64 // counts the packets; nil counts none
	// OrdinaryFailed says that packets without a limit were not answered: the largest of the limits is not tried again.
	OrdinaryFailed bool
}

// Longest is the largest hop limit that is tried where nothing is known: sites are hardly ever further away.
const Longest = 24

const (
	patience = 700 * time.Millisecond
	// again is the pause before what was not answered is sent once more: routers say once a second that a limit has ended.
	again  = time.Second
	atOnce = 4
)

// ErrUnable reports a system on which a program cannot limit hops or see who sent an ICMP message.
var ErrUnable = errors.New("hop limits are left out: this system does not tell a program who sent an ICMP message")

// Measure tries each limit, and those without an answer a second time. It stops early where ctx ends. Error: ErrUnable.
func Measure(ctx context.Context, r Request) ([]probe.HopAnswer, error) {
	if !connect.Able {
		return nil, ErrUnable
	}
	if r.Wait == 0 {
		r.Wait = patience
	}
	out := make([]probe.HopAnswer, len(r.Limits))
	every := make([]int, len(out))
	for i, limit := range r.Limits {
		out[i], every[i] = probe.HopAnswer{Limit: limit, Reply: probe.HopNothing}, i
	}
	r.round(ctx, out, every)
	left := unanswered(out)
	if n := len(left); r.OrdinaryFailed && n > 0 && left[n-1] == len(out)-1 {
		left = left[:n-1]
	}
	if len(left) == 0 {
		return out, nil
	}
	select {
	case <-time.After(again - r.Wait/2):
	case <-ctx.Done():
		return out, nil
	}
	r.round(ctx, out, left)
	return out, nil
}

// againMost is how many limits are tried again behind the last that was answered: further on, silence is what is expected.
const againMost = 3

// unanswered lists what is to be tried again.
func unanswered(list []probe.HopAnswer) (left []int) {
	last, beyond := -1, 0
	for i, a := range list {
		if a.Reply != probe.HopNothing {
			last = i
		}
	}
	for i, a := range list {
		if a.Reply != probe.HopNothing {
			continue
		}
		if i > last {
			if beyond++; beyond > againMost {
				break
			}
		}
		left = append(left, i)
	}
	return left
}

// Search is Measure for a port that works and whose distance is not known: it tries limits from 1 on, and ends with the first that is
// answered. Error: ErrUnable.
func Search(ctx context.Context, r Request) ([]probe.HopAnswer, error) {
	var out []probe.HopAnswer
	for first := 1; first <= Longest && ctx.Err() == nil; first += atOnce {
		r.Limits = nil
		for n := first; n < first+atOnce; n++ {
			r.Limits = append(r.Limits, n)
		}
		list, err := Measure(ctx, r)
		if err != nil {
			return nil, err
		}
		for _, a := range list {
			out = append(out, a)
			if a.Reply == probe.HopAccepted {
				return out, nil
			}
		}
	}
	return out, nil
}

// round tries some of the limits, a few at a time.
func (r Request) round(ctx context.Context, out []probe.HopAnswer, which []int) {
	var wg sync.WaitGroup
	slots := make(chan struct{}, atOnce)
	for _, i := range which {
		if ctx.Err() != nil {
			break
		}
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			out[i] = r.one(ctx, r.Limits[i])
		})
	}
	wg.Wait()
}

func (r Request) one(ctx context.Context, limit int) probe.HopAnswer {
	a := probe.HopAnswer{Limit: limit, Reply: probe.HopNothing}
	ctx, cancel := context.WithTimeout(ctx, r.Wait)
	defer cancel()
	end, _ := ctx.Deadline()
	if r.Sent != nil {
		r.Sent.Add(1)
	}
	c, err := connect.Dial(ctx, connect.Request{Network: string(r.Transport), Target: r.Target, From: r.From, Hops: limit, Deadline: end})
	if err == nil {
		defer c.Close()
		if r.Transport != probe.UDP {
			a.Reply = probe.HopAccepted
			return a
		}
		if _, err = c.Write(r.Payload); err == nil {
			if _, err = c.Read(make([]byte, 2048)); err == nil {
				a.Reply = probe.HopAccepted
				return a
			}
		}
	}
	var failure *connect.Failure
	switch {
	case errors.As(err, &failure) && failure.ICMP.Came():
		a.Reply, a.ICMP = probe.HopNotice, failure.ICMP
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET):
		a.Reply = probe.HopReset
	}
	return a
}
