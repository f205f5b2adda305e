// Package days_test runs days of many sites in minutes: the real engine and a real database on a simulated clock, in a world in which
// providers fail, addresses change, agents restart and clocks leap, as a script says. What is told has to be what the script did, and
// nothing else.
package days_test

import (
	"context"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/intake"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/wire/speak"
)

// checkEvery is how often agents look at their address and at the devices.
const checkEvery = time.Minute

// place is a site of the world. Its fields are read and written under the world's lock, except those that never change.
type place struct {
	code, provider string
	link           int64
	at             netip.Addr // WAN address; changes
	dark           bool       // nothing comes through
	mute           bool       // the agent does not run
	off            bool       // its camera recorder has no power
	closed         bool       // the router's forward to the web server is gone
}

// Ports of the services of each site: a recorder, and a web server on another device.
const (
	recorderPort = 8443
	webPort      = 8080
)

// world is what is outside the service.
type world struct {
	mu     sync.Mutex
	places []*place
	at     map[netip.Addr]*place
	used   int          // addresses given so far
	leap   atomic.Int64 // by which the service's clock is wrong
	rounds atomic.Int64
	moves  atomic.Int64
}

// clock is the time of day as the service sees it.
func (w *world) clock() time.Time {
	return time.Now().Add(time.Duration(w.leap.Load())).UTC().Truncate(time.Microsecond)
}

// address gives a place another address. The caller holds the lock.
func (w *world) address(p *place) {
	delete(w.at, p.at)
	w.used++
	p.at = netip.AddrFrom4([4]byte{127, 96 + byte(w.used>>16), byte(w.used >> 8), byte(w.used)})
	w.at[p.at] = p
}

func (w *world) set(f func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	f()
}

// speak is how a probe of the service goes.
func (w *world) speak(ctx context.Context, s speak.Service) speak.Round {
	w.rounds.Add(1)
	w.mu.Lock()
	p := w.at[s.Target.Addr()]
	signal, took := probe.SignalConnected, 8*time.Millisecond
	switch {
	case p == nil, p.dark, p.off && s.Target.Port() == recorderPort:
		signal, took = probe.SignalTimeout, s.Deadline
	case p.closed && s.Target.Port() == webPort:
		signal = probe.SignalReset
	}
	w.mu.Unlock()
	select {
	case <-time.After(took):
	case <-ctx.Done():
	}
	t := speak.Try{Target: s.Target, Transport: s.Transport, Kind: s.Kind, Outcome: probe.FromSignal(signal),
		Reply: speak.Reply{Result: probe.Result{Signal: signal}, Took: took}}
	r := speak.Round{Outcome: t.Outcome, Deciding: t, Tries: []speak.Try{t}}
	if signal != probe.SignalTimeout {
		r.Latency = took
	}
	return r
}

// agent is the program at a place, until ctx ends. It begins after a while of its own.
func (w *world) agent(ctx context.Context, e *engine.Engine, p *place, after time.Duration) {
	began := time.Now()
	select {
	case <-time.After(after):
	case <-ctx.Done():
		return
	}
	tick := time.NewTicker(checkEvery)
	defer tick.Stop()
	for {
		w.mu.Lock()
		at, runs, off := p.at, !p.mute && !p.dark, p.off
		w.mu.Unlock()
		if runs {
			w.report(ctx, e, p, at, off, time.Since(began))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (w *world) report(ctx context.Context, e *engine.Engine, p *place, at netip.Addr, off bool, up time.Duration) {
	now := w.clock()
	receipt, _, err := e.Report(ctx, intake.Claimant{LinkID: p.link, From: at}, siteside.Reported{Noticed: now, Source: wan.SourceGateway,
		Reports: []wan.Report{{Source: wan.SourceGateway, Via: "igd", Addresses: wan.PairOf(at), At: now}}, Agent: "1",
		Protocol: 1, Up: up})
	if err != nil {
		return // it says so again
	}
	if receipt.Decision.Changed {
		w.moves.Add(1)
	}
	port := func(service string) contract.PortSeen {
		return contract.PortSeen{Service: service, State: "open", Spoke: true}
	}
	recorder := contract.DeviceReport{Device: "recorder", Present: !off}
	if !off {
		recorder.Ports = []contract.PortSeen{port("cameras")}
	}
	_ = e.NoteDevices(p.link, contract.LANReport{Devices: []contract.DeviceReport{recorder,
		{Device: "panel", Present: true, Ports: []contract.PortSeen{port("panel")}}}})
}
