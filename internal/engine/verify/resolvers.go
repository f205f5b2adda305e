package verify

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// recheckAfter is how soon a resolver that still gives another address is asked anew, while its cache may hold that.
const recheckAfter = 2 * time.Second

// resolved is what a resolver gave, and when.
type resolved struct {
	given wan.Pair
	at    time.Time
}

// cacheTime is how long a resolver may keep what it was told before a hostname's answer changed: its address, or that there
// is no such name.
func (v *Verifier) cacheTime(h site.Hostname) time.Duration {
	return time.Duration(max(uint32(h.TTL), v.record.Zone(h.ZoneID).Negative)) * time.Second
}

// Behind lists the resolvers that gave another address although their caches had had time to run out.
func (v *Verifier) Behind(p record.Site, h site.Hostname) (servers []string) {
	want, known := p.AnswerOf(h), v.names.of(h.ID)
	for _, at := range v.servers(h) {
		r, asked := known.resolvers[at.address]
		if asked && r.given != want && r.at.After(v.lastChange(p, h).Add(v.patience(h, at)+time.Second)) {
			servers = append(servers, at.address+" gives "+r.given.String())
		}
	}
	return servers
}

// server is one elsewhere that is asked for a hostname.
type server struct {
	address string // "host:port"
	kind    dnsask.Kind
}

// secondaryTime is how long a secondary may take to have a change: it is told at once (RFC 1996).
const secondaryTime = 10 * time.Second

// servers lists the servers that are asked for a hostname beside our own or the primary: the zone's other authoritative
// servers, and the resolvers.
func (v *Verifier) servers(h site.Hostname) (out []server) {
	z := v.record.Zone(h.ZoneID)
	for _, at := range append(slices.Clone(z.Notify), z.AlsoAsk...) {
		if p := (server{at.String(), dnsask.Authoritative}); !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	for _, address := range v.Servers().Resolvers {
		out = append(out, server{address, dnsask.Resolver})
	}
	return out
}

// patience is how long a server may go on giving the answer from before a change.
func (v *Verifier) patience(h site.Hostname, at server) time.Duration {
	if at.kind == dnsask.Authoritative {
		return secondaryTime
	}
	return v.cacheTime(h)
}

// Resolvable reports whether servers elsewhere can be asked for any of some hostnames.
func (v *Verifier) Resolvable(hostnames []site.Hostname) bool {
	return slices.ContainsFunc(hostnames, func(h site.Hostname) bool { return len(v.servers(h)) > 0 })
}

// verifyElsewhere asks every resolver for all hostnames of a site, each resolver beside the others. Where all of them give
// the address, the site's moves have been seen. One that does not answer says nothing: it is left out.
func (v *Verifier) verifyElsewhere(ctx context.Context, p record.Site, every bool) {
	if !v.Resolvable(p.Hostnames) {
		return
	}
	var wg sync.WaitGroup
	asked := map[server][]site.Hostname{}
	for _, h := range p.Hostnames {
		known := v.names.of(h.ID)
		if known.given != p.AnswerOf(h) {
			continue // asked too early, a resolver would keep the old answer for longer
		}
		for _, at := range v.servers(h) {
			if view, has := known.resolvers[at.address]; every || !has || view.given != p.AnswerOf(h) {
				asked[at] = append(asked[at], h)
			}
		}
	}
	aliased := map[server][]site.Alias{}
	for _, a := range v.aliasesOf(p.ID) {
		_, h, _ := v.record.HostnameAt(a.Hostname)
		for _, address := range v.Servers().Resolvers {
			at := server{address, dnsask.Resolver}
			if given, has := v.aliases.of(a.ID, at); every || !has || given != p.AnswerOf(h) {
				aliased[at] = append(aliased[at], a)
				if asked[at] == nil {
					asked[at] = []site.Hostname{} // this place is asked for aliases only
				}
			}
		}
	}
	for at, hostnames := range asked {
		address := at.address
		if !v.asking.enter(address) { // enough questions wait for it
			time.AfterFunc(recheckAfter, func() { v.Ask(p.ID) })
			continue
		}
		wg.Go(func() {
			defer v.asking.leave(address)
			for _, a := range aliased[at] {
				v.askAlias(ctx, a, at)
			}
			for _, h := range hostnames {
				given, err := dnsask.Addresses(ctx, address, at.kind, h.Name)
				if err != nil {
					if ctx.Err() == nil {
						v.log.Debug("a server does not answer", "server", address, "name", h.Name, "error", err)
					}
					return // nor will it for the other names
				}
				v.names.set(h.ID, func(s *nameState) {
					next := maps.Clone(s.resolvers)
					if next == nil {
						next = map[string]resolved{}
					}
					next[address] = resolved{given, v.now()}
					s.resolvers = next
				})
			}
		})
	}
	wg.Wait()
	current, ok := v.record.Site(p.ID)
	if !ok || !sameAddresses(p, current) {
		return
	}
	now := v.now()
	answered, differing, waiting := 0, 0, false
	for at, list := range aliased {
		for _, a := range list {
			_, h, _ := v.record.HostnameAt(a.Hostname)
			given, _ := v.aliases.of(a.ID, at)
			waiting = waiting || given != p.AnswerOf(h) && now.Before(v.lastChange(p, h).Add(v.cacheTime(h)+5*recheckAfter))
		}
	}
	for _, h := range p.Hostnames {
		known, want := v.names.of(h.ID), p.AnswerOf(h)
		if known.given != want {
			differing++
		}
		for _, view := range known.resolvers {
			answered++
			if view.given != want {
				differing++
				waiting = waiting || now.Before(v.lastChange(p, h).Add(v.cacheTime(h)+5*recheckAfter))
			}
		}
	}
	switch {
	case answered > 0 && differing == 0:
		v.host.Seen(p.ID, now)
	case waiting:
		time.AfterFunc(recheckAfter, func() { v.Ask(p.ID) })
	}
}

// lastChange is when the answer for a hostname last changed.
func (v *Verifier) lastChange(p record.Site, h site.Hostname) time.Time {
	if at := v.names.of(h.ID).published; !at.IsZero() {
		return at
	}
	l, _ := p.Followed(h.LinkID)
	return l.Since
}
