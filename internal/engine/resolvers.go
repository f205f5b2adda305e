package engine

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

// again is how soon a resolver that still gives another address is asked anew, while its cache may hold that.
const again = 2 * time.Second

// resolved is what a resolver gave, and when.
type resolved struct {
	given wan.Pair
	at    time.Time
}

// cacheTime is how long a resolver may keep what it was told before a hostname's answer changed: its address, or that there
// is no such name.
func (e *Engine) cacheTime(h site.Hostname) time.Duration {
	return time.Duration(max(uint32(h.TTL), e.record.Zone(h.ZoneID).Negative)) * time.Second
}

// behind lists the resolvers that gave another address although their caches had had time to run out.
func (e *Engine) behind(p record.Site, h site.Hostname) (servers []string) {
	want, known := p.AnswerOf(h), e.names.of(h.ID)
	for _, at := range e.places(h) {
		v, asked := known.resolvers[at.server]
		if asked && v.given != want && v.at.After(e.lastChange(p, h).Add(e.patience(h, at)+time.Second)) {
			servers = append(servers, at.server+" gives "+v.given.String())
		}
	}
	return servers
}

// place is a server elsewhere that is asked for a hostname.
type place struct {
	server string
	kind   dnsask.Kind
}

// secondaryTime is how long a secondary may take to have a change: it is told at once (RFC 1996).
const secondaryTime = 10 * time.Second

// places lists the servers that are asked for a hostname beside our own or the primary: the zone's other authoritative
// servers, and the resolvers.
func (e *Engine) places(h site.Hostname) (out []place) {
	z := e.record.Zone(h.ZoneID)
	for _, at := range append(slices.Clone(z.Notify), z.AlsoAsk...) {
		if p := (place{at.String(), dnsask.Authoritative}); !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	for _, server := range e.config.Resolvers {
		out = append(out, place{server, dnsask.Resolver})
	}
	return out
}

// patience is how long a place may give the answer from before a change.
func (e *Engine) patience(h site.Hostname, at place) time.Duration {
	if at.kind == dnsask.Authoritative {
		return secondaryTime
	}
	return e.cacheTime(h)
}

// resolvable reports whether servers elsewhere can be asked for any of some hostnames.
func (e *Engine) resolvable(hostnames []site.Hostname) bool {
	return slices.ContainsFunc(hostnames, func(h site.Hostname) bool { return len(e.places(h)) > 0 })
}

// verifyElsewhere asks every resolver for all hostnames of a site, each resolver beside the others. Where all of them give
// the address, the site's moves have been seen. One that does not answer says nothing: it is left out.
func (e *Engine) verifyElsewhere(ctx context.Context, p record.Site, every bool) {
	if !e.resolvable(p.Hostnames) {
		return
	}
	var wg sync.WaitGroup
	asked := map[place][]site.Hostname{}
	for _, h := range p.Hostnames {
		known := e.names.of(h.ID)
		if known.given != p.AnswerOf(h) {
			continue // asked too early, a resolver would keep the old answer for longer
		}
		for _, at := range e.places(h) {
			if view, has := known.resolvers[at.server]; every || !has || view.given != p.AnswerOf(h) {
				asked[at] = append(asked[at], h)
			}
		}
	}
	aliased := map[place][]site.Alias{}
	for _, a := range e.aliasesOf(p.ID) {
		_, h, _ := e.record.HostnameAt(a.Hostname)
		for _, server := range e.config.Resolvers {
			at := place{server, dnsask.Resolver}
			if given, has := e.aliases.of(a.ID, at); every || !has || given != p.AnswerOf(h) {
				aliased[at] = append(aliased[at], a)
				if asked[at] == nil {
					asked[at] = []site.Hostname{} // this place is asked for aliases only
				}
			}
		}
	}
	for at, hostnames := range asked {
		server := at.server
		if !e.asking.enter(server) { // enough others wait for it
			time.AfterFunc(again, func() { e.askAgain(p.ID) })
			continue
		}
		wg.Go(func() {
			defer e.asking.leave(server)
			for _, a := range aliased[at] {
				e.askAlias(ctx, a, at)
			}
			for _, h := range hostnames {
				given, err := dnsask.Addresses(ctx, server, at.kind, h.Name)
				if err != nil {
					if ctx.Err() == nil {
						e.log.Debug("a server does not answer", "server", server, "name", h.Name, "error", err)
					}
					return // nor will it for the other names
				}
				e.names.set(h.ID, func(s *nameState) {
					next := maps.Clone(s.resolvers)
					if next == nil {
						next = map[string]resolved{}
					}
					next[server] = resolved{given, e.now()}
					s.resolvers = next
				})
			}
		})
	}
	wg.Wait()
	current, ok := e.record.Site(p.ID)
	if !ok || !sameAddresses(p, current) {
		return
	}
	now := e.now()
	answered, differing, waiting := 0, 0, false
	for at, list := range aliased {
		for _, a := range list {
			_, h, _ := e.record.HostnameAt(a.Hostname)
			given, _ := e.aliases.of(a.ID, at)
			waiting = waiting || given != p.AnswerOf(h) && now.Before(e.lastChange(p, h).Add(e.cacheTime(h)+5*again))
		}
	}
	for _, h := range p.Hostnames {
		known, want := e.names.of(h.ID), p.AnswerOf(h)
		if known.given != want {
			differing++
		}
		for _, view := range known.resolvers {
			answered++
			if view.given != want {
				differing++
				waiting = waiting || now.Before(e.lastChange(p, h).Add(e.cacheTime(h)+5*again))
			}
		}
	}
	switch {
	case answered > 0 && differing == 0:
		e.moves.Seen(p.ID, now)
	case waiting:
		time.AfterFunc(again, func() { e.askAgain(p.ID) })
	}
}

// lastChange is when the answer for a hostname last changed.
func (e *Engine) lastChange(p record.Site, h site.Hostname) time.Time {
	if at := e.names.of(h.ID).published; !at.IsZero() {
		return at
	}
	l, _ := p.Followed(h.LinkID)
	return l.Since
}
