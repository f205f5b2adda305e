// Package named finds out where a hostname leads, as a user's machine does.
//
// Any lock may be held when it is called, but it waits for name servers.
package named

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// Result is the result of reaching a service by its hostname, as a user's machine does.
type Result struct {
	Hostname, Resolver string
	Given              wan.Pair
	Outcome            probe.Outcome
	Message            string
	At                 time.Time
}

// Ask is who is asked.
type Ask struct {
	NameServer string        // "host:port" of our own DNS server; "" goes by no name
	Resolvers  []string      // "host:port" of resolvers elsewhere; the first one is asked instead
	Deadline   time.Duration // how long an answer is waited for
}

// Resolve resolves a hostname as a user's machine would; nil where nobody is to be asked. A name that leads elsewhere is not followed:
// probes go to the site's own address only, want.
func (a Ask) Resolve(ctx context.Context, name string, want netip.Addr, now time.Time) (*Result, []probe.Step) {
	w := &Result{Hostname: name, Resolver: a.NameServer, At: now}
	kind := dnsask.Authoritative
	if len(a.Resolvers) > 0 {
		w.Resolver, kind = a.Resolvers[0], dnsask.Resolver
	}
	if w.Resolver == "" {
		return nil, nil
	}
	bounded, cancel := context.WithTimeout(ctx, a.Deadline)
	defer cancel()
	began := time.Now()
	pair, err := dnsask.Addresses(bounded, w.Resolver, kind, names.Name(name))
	step := probe.Step{Name: "resolve", AtUS: time.Since(began).Microseconds(),
		Words: fmt.Sprintf("%s says %s is %s", w.Resolver, name, pair)}
	w.Given = pair
	switch {
	case err != nil:
		w.Outcome, w.Message = probe.Skipped, fmt.Sprintf("%s could not be asked for %s: %v", w.Resolver, name, err)
		step.Words = w.Message
	case !pair.Known():
		w.Outcome, w.Message = probe.Skipped, fmt.Sprintf("%s knows no address of %s", w.Resolver, name)
		step.Words = w.Message
	case pair.IPv4 != want && pair.IPv6 != want:
		w.Outcome, w.Message = probe.Skipped, fmt.Sprintf("%s gives %s for %s, not %s: whoever uses the name does not reach the site",
			w.Resolver, pair, name, want)
		step.Words = w.Message
	}
	return w, []probe.Step{step}
}
