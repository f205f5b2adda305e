// Package lab is a small simulated world on real loopback sockets: internet providers with address pools, routers with NAT
// and port forwards, and devices that really answer. Each "public" address is a loopback address.
//
// Errors of all methods: site.Missing for what the lab does not have, a port that cannot be opened.
package lab

import (
	"fmt"
	"net/netip"
	"sync"
)

// Public holds the loopback addresses that stand for public ones.
var Public = netip.MustParsePrefix("127.96.0.0/11")

// LAN holds the loopback addresses that stand for addresses on sites' LANs.
var LAN = netip.MustParsePrefix("127.192.0.0/10")

// provider hands out addresses of a pool in turn, none twice until all were used.
type provider struct {
	name string
	pool netip.Prefix

	mu   sync.Mutex
	next netip.Addr
	used map[netip.Addr]bool
}

func newProvider(name string, pool netip.Prefix) *provider {
	return &provider{name: name, pool: pool, next: pool.Addr(), used: map[netip.Addr]bool{}}
}

// lease returns an address: the one asked for where it is in the pool and free, otherwise the next free one.
func (p *provider) lease(wish netip.Addr) (netip.Addr, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pool.Contains(wish) && !p.used[wish] {
		p.used[wish] = true
		return wish, nil
	}
	for range 1 << (p.pool.Addr().BitLen() - p.pool.Bits()) {
		// A step that is no divisor of the pool's size looks like addresses of strangers in between.
		for range 37 {
			if p.next = p.next.Next(); !p.pool.Contains(p.next) {
				p.next = p.pool.Addr().Next()
			}
		}
		if last := p.next.As4()[3]; last != 0 && last != 255 && !p.used[p.next] {
			p.used[p.next] = true
			return p.next, nil
		}
	}
	return netip.Addr{}, fmt.Errorf("the pool %s of %s is used up", p.pool, p.name)
}

func (p *provider) release(a netip.Addr) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.used, a)
}
