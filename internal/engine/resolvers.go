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
						next = map[string]wan.Pair{}
					}
					next[server] = given
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
		for _, given := range known.resolvers {
			answered++
			if given != want {
				differing++
				waiting = waiting || now.Before(e.lastChange(p, h).Add(time.Duration(h.TTL)*time.Second+5*again))
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
