package engine

import (
	"context"
	"maps"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
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
	return time.Duration(max(uint32(h.TTL), e.record.zone(h.ZoneID).Negative)) * time.Second
}

// behind lists the resolvers that gave another address although their caches had had time to run out.
func (e *Engine) behind(p premises, h site.Hostname) (servers []string) {
	want, known := p.addressOf(h.LinkID), e.names.of(h.ID)
	for _, server := range e.config.Resolvers {
		v, asked := known.resolvers[server]
		if asked && v.given != want && v.at.After(e.lastChange(p, h).Add(e.cacheTime(h)+time.Second)) {
			servers = append(servers, server+" gives "+v.given.String())
		}
	}
	return servers
}

// resolvable says whether resolvers can be asked for the names of a site.
func (e *Engine) resolvable(p premises) bool {
	return len(e.config.Resolvers) > 0 && len(p.hostnames) > 0
}

// verifyElsewhere asks every resolver for all hostnames of a site, each resolver beside the others. Where all of them give
// the address, the site's moves have been seen. One that does not answer says nothing: it is left out.
func (e *Engine) verifyElsewhere(ctx context.Context, p premises) {
	if !e.resolvable(p) {
		return
	}
	var wg sync.WaitGroup
	for _, server := range e.config.Resolvers {
		wg.Go(func() {
			for _, h := range p.hostnames {
				given, err := dnsask.Addresses(ctx, server, dnsask.Resolver, h.Name)
				if err != nil {
					if ctx.Err() == nil {
						e.log.Debug("a resolver does not answer", "resolver", server, "name", h.Name, "error", err)
					}
					continue
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
	current, ok := e.record.site(p.ID)
	if !ok || !sameAddresses(p, current) {
		return
	}
	now := e.now()
	answered, differing, waiting := 0, 0, false
	for _, h := range p.hostnames {
		known, want := e.names.of(h.ID), p.addressOf(h.LinkID)
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
		for _, id := range e.moves.seen(p.ID) {
			e.stages <- store.Stages{MoveID: id, Seen: now}
		}
	case waiting:
		time.AfterFunc(again, func() { e.askAgain(p.ID) })
	}
}

// lastChange is when the answer for a hostname last changed.
func (e *Engine) lastChange(p premises, h site.Hostname) time.Time {
	if at := e.names.of(h.ID).published; !at.IsZero() {
		return at
	}
	l, _ := site.Followed(p.links, h.LinkID)
	return l.Since
}
