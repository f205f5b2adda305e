//go:build !linux

package connect

import (
	"context"
	"net"
	"sync"
	"time"
)

// Poller connects to many targets at once, only to learn whether they accept. It is safe for concurrent use.
type Poller struct {
	patience time.Duration
	ctx      context.Context
	end      context.CancelFunc
	mu       sync.Mutex // of the attempts' states
	under    sync.WaitGroup
}

// state is what a Poller keeps of an attempt.
type state struct {
	cancelled bool
	cancel    context.CancelFunc
}

// NewPoller returns a poller that gives up each attempt after patience. Error: none.
func NewPoller(patience time.Duration, _ func(task func())) (*Poller, error) {
	p := &Poller{patience: patience}
	p.ctx, p.end = context.WithCancel(context.Background())
	return p, nil
}

// Start begins an attempt. Nobody waits for the network in it.
func (p *Poller) Start(a *Attempt) {
	ctx, cancel := context.WithCancel(p.ctx)
	p.mu.Lock()
	if a.cancel = cancel; a.cancelled {
		cancel()
	}
	p.mu.Unlock()
	p.under.Go(func() {
		defer cancel()
		began := time.Now()
		c, err := Dial(ctx, Request{Network: "tcp", Target: a.Target, Deadline: began.Add(p.patience)})
		t := Tried{Took: time.Since(began), Err: err}
		if err == nil {
			if own, ok := c.LocalAddr().(*net.TCPAddr); ok {
				t.From = own.AddrPort()
			}
			_ = c.Close()
		}
		a.Done(t)
	})
}

// Cancel ends an attempt, also one that has not begun yet. It does nothing to one that has ended.
func (p *Poller) Cancel(a *Attempt) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if a.cancelled = true; a.cancel != nil {
		a.cancel()
	}
}

// Close cancels all attempts, and returns when the last one has ended.
func (p *Poller) Close() {
	p.end()
	p.under.Wait()
}
