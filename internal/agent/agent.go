// Package agent is the program at the site: it learns the site's public address and announces when it changes.
package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"time"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/wan"
)

// Options of Run.
type Options struct {
	Server   string // the server's address; needed to enrol; later it may be left out
	Code     string // the one-time code; needed to enrol
	StateDir string // where the key is kept
	// Dial opens connections; nil takes the system's. The lab's router takes the place of the kernel's routing here.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	Log  *slog.Logger
}

const (
	requestLimit = 5 * time.Second
	announceMost = 5 * time.Minute // an announcement is due after this long, even if nothing differs
	retryBase    = 500 * time.Millisecond
	retryMost    = time.Minute
)

// ErrRevoked reports that the server no longer takes the agent's key: a person has to enrol it again.
var ErrRevoked = errors.New("the server does not take this agent's key any more; enrol it again with a new code")

// runner is an agent that has enrolled.
type runner struct {
	client    *client.Client
	transport *http.Transport
	log       *slog.Logger
	every     time.Duration

	seen      string    // the newest address that the server saw
	noticed   time.Time // when it was first seen
	announced string
	lastWord  time.Time
}

// Run enrols where that has not been done, and then keeps the server told of the site's address until ctx ends. While the
// server is away it tries again, with growing pauses, and announces the newest address when it is back.
func Run(ctx context.Context, o Options) error {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	transport := &http.Transport{DialContext: o.Dial, ResponseHeaderTimeout: requestLimit, IdleConnTimeout: time.Minute, MaxIdleConns: 1, ForceAttemptHTTP2: true}
	defer transport.CloseIdleConnections()
	h := &http.Client{Transport: transport, Timeout: requestLimit}
	state, err := readState(o.StateDir)
	if errors.Is(err, os.ErrNotExist) {
		if state, err = enrol(ctx, o, h); err == nil {
			err = state.write(o.StateDir)
		}
	}
	if err != nil {
		return err
	}
	if o.Server != "" { // the server has another address than at enrolment
		state.Server = o.Server
	}
	c, err := client.New(state.Server, state.Key, client.WithHTTP(h))
	if err != nil {
		return err
	}
	o.Log.Info("agent runs", "site", state.Site, "link", state.Link, "server", state.Server)
	r := &runner{client: c, transport: transport, log: o.Log, every: time.Duration(state.CheckSeconds * float64(time.Second))}
	return r.loop(ctx)
}

func enrol(ctx context.Context, o Options, h *http.Client) (state, error) {
	if o.Server == "" || o.Code == "" {
		return state{}, errors.New("this agent has not enrolled yet: give --server and --code, a code is made by inkpost agent invite SITE")
	}
	c, err := client.New(o.Server, "", client.WithHTTP(h))
	if err != nil {
		return state{}, err
	}
	label, _ := os.Hostname()
	for failures := 0; ; failures++ {
		e, err := c.Enrol(ctx, contract.Enrolment{Code: o.Code, Label: label})
		var away *client.Unreachable
		switch {
		case err == nil:
			return state{Server: o.Server, Key: e.Key, Site: e.Site, Link: e.Link, CheckSeconds: e.CheckSeconds}, nil
		case !errors.As(err, &away) && !client.IsStatus(err, http.StatusTooManyRequests) && !client.IsStatus(err, http.StatusServiceUnavailable):
			return state{}, fmt.Errorf("enrol: %w", err)
		}
		o.Log.Warn("cannot enrol yet; trying again", "error", err)
		if !pause(ctx, pace.Backoff(failures, retryBase, retryMost, rand.Float64())) {
			return state{}, ctx.Err()
		}
	}
}

func (r *runner) loop(ctx context.Context) error {
	failures := 0
	for {
		err := r.check(ctx)
		if err != nil && ctx.Err() == nil && failures == 0 {
			// The first failure is often a connection that the router's old address took with it: a fresh one works.
			r.transport.CloseIdleConnections()
			err = r.check(ctx)
		}
		wait := r.every
		switch {
		case ctx.Err() != nil:
			return nil
		case err == nil:
			failures = 0
		case client.IsStatus(err, http.StatusUnauthorized), client.IsStatus(err, http.StatusGone):
			return fmt.Errorf("%w (%v)", ErrRevoked, err)
		default:
			wait = pace.Backoff(failures, retryBase, retryMost, rand.Float64())
			failures++
			r.log.Warn("the server could not be told", "error", err, "again in", wait.Round(time.Millisecond))
		}
		if !pause(ctx, wait) {
			return nil
		}
	}
}

// check asks which address the server sees, and announces where it is another one or a word is due.
func (r *runner) check(ctx context.Context) error {
	o, err := r.client.Observed(ctx)
	if err != nil {
		return err
	}
	if o.CheckSeconds >= 1 {
		r.every = time.Duration(o.CheckSeconds * float64(time.Second))
	}
	if o.Address != r.seen {
		r.seen, r.noticed = o.Address, time.Now()
	}
	if r.seen == r.announced && time.Since(r.lastWord) < announceMost {
		return nil
	}
	in := contract.Announcement{Source: string(wan.SourceObserved)}
	if r.seen != r.announced {
		in.NoticedMS = time.Since(r.noticed).Milliseconds()
	}
	receipt, err := r.client.Announce(ctx, in)
	if err != nil {
		return err
	}
	r.announced, r.lastWord = r.seen, time.Now()
	if receipt.Changed {
		r.log.Info("address announced", "old", receipt.Old, "new", receipt.New, "hostnames", receipt.Hostnames)
	}
	return nil
}

// pause waits; false says that ctx ended first.
func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
