package vantage

import (
	"context"
	"net"
	"net/netip"
	"net/url"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
)

// lookAt tries once what the server asks for, which is no service that is assigned: one of the server's own ports, mostly.
func (r *runner) lookAt(ctx context.Context, o contract.ProbeTask) {
	a := *o.Look
	weight := int64(1 + a.Ports[1] - a.Ports[0])
	if r.slots.Acquire(ctx, weight) != nil {
		return
	}
	defer r.slots.Release(weight)
	r.mu.Lock()
	deadline := r.deadline
	r.mu.Unlock()
	trouble := ""
	if a.Target == "" {
		a.Target, trouble = r.serverAddress(ctx)
	}
	if trouble != "" {
		r.spool.add(contract.OutcomeReport{At: time.Now().UTC(), Outcome: probe.Skipped, Message: trouble, Task: o.ID}, true)
		return
	}
	seen, _, attempts := r.round(ctx, a, deadline)
	if ctx.Err() != nil {
		return
	}
	seen.Task, seen.Attempts = o.ID, attempts
	r.spool.add(seen, true)
}

// serverAddress is where this machine reaches the server; trouble says why nobody knows.
func (r *runner) serverAddress(ctx context.Context) (address, trouble string) {
	server, err := url.Parse(r.state.Server)
	if err != nil {
		return "", err.Error()
	}
	if a, err := netip.ParseAddr(server.Hostname()); err == nil {
		return a.String(), ""
	}
	bounded, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	list, err := net.DefaultResolver.LookupNetIP(bounded, "ip", server.Hostname())
	if err != nil {
		return "", err.Error()
	}
	for _, a := range list { // over IPv4 where there is a choice: what the world reaches most
		if address == "" || a.Unmap().Is4() {
			address = a.Unmap().String()
		}
	}
	return address, ""
}
