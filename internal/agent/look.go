package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Try implements LAN: it speaks the service's protocol, and compares what it shows with what is pinned.
func (l SystemLAN) Try(ctx context.Context, p contract.WatchedPort, at netip.AddrPort) contract.PortSeen {
	transport := probe.Transport(p.Transport)
	switch {
	case !(wan.Policy{LANs: l.Lab}).OnLAN(at.Addr()):
		return contract.PortSeen{State: "unknown", Detail: fmt.Sprintf("%s is not an address of a LAN; it is not checked", at.Addr())}
	case transport == probe.Both:
		transport = probe.TCP
	case transport != probe.TCP && transport != probe.UDP:
		return contract.PortSeen{State: "unknown", Detail: "only tcp and udp can be tried"}
	}
	kind := p.Kind
	if kind == "" {
		kind = probe.Kind(transport)
	}
	r := speak.To(ctx, speak.Request{Kind: kind.On(transport), Transport: transport, Target: at, Name: p.Hostname, Options: p.Options,
		Deadline: tryLimit})
	return seenFrom(p, kind.On(transport), probe.Judge(r.Result, p.Pinned), r)
}

// seenFrom says what a port said, as somebody on the same LAN takes it.
func seenFrom(p contract.WatchedPort, kind probe.Kind, o probe.Outcome, r speak.Reply) contract.PortSeen {
	out := contract.PortSeen{State: "unknown", Detail: r.Message, Fingerprint: r.Fingerprint, Spoke: kind != probe.KindTCP &&
		kind != probe.KindUDP}
	switch {
	case o.Good():
		out.State, out.Detail = "open", ""
	case o == probe.Refused:
		out.State, out.Detail = "refused", ""
	case o == probe.Unroutable && r.ICMP.Notice() == probe.Prohibited:
		out.State = "prohibited"
	case o == probe.Silent && probe.Mute(kind, p.Options):
		out.Detail = "UDP: an open port need not answer; prove the path instead"
	case o == probe.Silent, o == probe.Unroutable: // nobody has the address, or it drops what comes
		out.State, out.Detail = "silent", ""
	case r.Hung:
		out.State = "hung"
	case o == probe.Garbled, o == probe.Stranger:
		out.State = "other"
	}
	return out
}

// loopLimit is how long the public address may take to answer from inside, and loopsAtOnce how many ports are tried at a time.
const (
	loopLimit   = 700 * time.Millisecond
	loopsAtOnce = 8
)

// loopBack tries the public side of services from inside: a router that loops traffic back answers there too. It goes to the link's own
// address only, when somebody asks, and from then on as long as something answers: with another router it would only wait.
func (r *runner) loopBack(ctx context.Context, asked bool, watched []contract.WatchedDevice, seen []contract.DeviceReport) {
	own := r.own.Load()
	if own == nil || !asked && !r.loops.Load() {
		return
	}
	var answered atomic.Bool
	var wg sync.WaitGroup
	slots := make(chan struct{}, loopsAtOnce)
	for i, d := range watched {
		for k, p := range d.Ports {
			at, err := netip.ParseAddrPort(p.Public)
			if err != nil || p.Transport == string(probe.UDP) || at.Addr() != own.IPv4 || k >= len(seen[i].Ports) ||
				ctx.Err() != nil {
				continue
			}
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				said := r.outward(ctx, at)
				seen[i].Ports[k].Loop = said
				if said == loopAnswers {
					answered.Store(true)
				}
			})
		}
	}
	wg.Wait()
	r.loops.Store(answered.Load())
}

// What the public side says from inside.
const (
	loopAnswers = "answers"
	loopRefused = "refused"
	loopSilent  = "silent"
)

// outward tries a public address and port by the link's own way out.
func (r *runner) outward(ctx context.Context, at netip.AddrPort) string {
	ctx, cancel := context.WithTimeout(ctx, loopLimit)
	defer cancel()
	c, err := r.way.dial(ctx, "tcp4", at.String())
	switch {
	case err == nil:
		_ = c.Close()
		return loopAnswers
	case errors.Is(err, syscall.ECONNREFUSED):
		return loopRefused
	}
	return loopSilent
}
