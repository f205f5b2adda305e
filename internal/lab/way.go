package lab

import (
	"fmt"
	"net/netip"

	"inkpost.example/inkpost/internal/core/probe"
)

// The way to a simulated site: hopsOfProvider routers of its provider, then the router that has the public address, then, where another
// device translates in front of it, a second one. The device is one further.
const hopsOfProvider = 3

// hopAt is a router of a provider on the way.
func hopAt(n int) netip.Addr { return netip.AddrFrom4([4]byte{127, 111, 0, byte(n)}) }

// distances of a router: that of the first device that translates, and that of the last one.
func (r *router) distances() (first, last int) {
	first = hopsOfProvider + 1
	return first, first + r.behind
}

// packet is one that came to a public address.
type packet struct {
	to        netip.AddrPort
	from      netip.AddrPort
	transport probe.Transport
	limit     int    // how far it may go still
	sequence  uint32 // of a TCP packet
	raw       []byte // its headers, to be sent back
}

// reply is what the network answers in the place of a device.
type reply int

const (
	none        reply = iota
	exceeded          // time exceeded, from sender
	unreachable       // host unreachable, from the public address
	refused           // RST, or port unreachable
)

// answer says what the network does with a packet; none leaves it to whoever listens, or to silence.
func (w *World) answer(p packet) (what reply, sender netip.Addr) {
	if !w.routes(p.to.Addr()) {
		return none, sender // of another world on this machine
	}
	if p.limit <= hopsOfProvider {
		return exceeded, hopAt(p.limit)
	}
	for _, s := range w.sites {
		for _, l := range s.links {
			if what, ok := l.router.answer(p); ok {
				return what, p.to.Addr()
			}
		}
	}
	return none, sender
}

func (w *World) routes(a netip.Addr) bool {
	for _, p := range w.providers {
		if p.pool.Contains(a) {
			return true
		}
	}
	return false
}

// answer says what a router does with a packet for its public address; ok is false if it has another one.
func (r *router) answer(p packet) (what reply, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.wan != p.to.Addr() {
		return none, false
	}
	d := door{p.transport, p.to.Port()}
	f := r.forwards[d]
	switch _, last := r.distances(); {
	case r.dark || f == nil || !f.present:
		return none, true // it takes the packet for itself, and drops it
	case p.limit <= last:
		return exceeded, true // it is about to pass it on
	case f.to.gone():
		return unreachable, true // nobody on the LAN has the device's address
	case !f.to.running():
		return refused, true
	}
	return none, true
}

// Limits says why the lab cannot act on hop limits; "" if it does.
func (w *World) Limits() string {
	if w.way == nil {
		return fmt.Sprintf("packets with a hop limit, and ICMP from routers, are not simulated: %v", w.wayless)
	}
	return ""
}
