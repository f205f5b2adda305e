package lab

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// router is a simulated router with one WAN connection: connections from inside leave from its WAN address, forwards lead
// from its WAN address to devices, everything else from outside is dropped, and its own WAN address cannot be reached from
// inside.
type router struct {
	provider *provider
	log      *slog.Logger

	mu       sync.Mutex
	wan      netip.Addr
	forwards map[door]*forward
	holding  map[door]held
	ghosts   []io.Closer // ports of addresses that it had before: nobody is there now
	flows    map[net.Conn]bool
	dark     bool // nothing goes through its WAN connection
	gateway  *gateway
	behind   int  // devices that translate behind the one with the public address
	ways     bool // hop limits are acted on
}

// forward is a port forward on the router's record. Absent, its port is dropped.
type forward struct {
	to      *answerer
	present bool
}

// held is what stands on a WAN port now.
type held struct {
	listener io.Closer
	mode     mode
}

type mode int

const (
	closed mode = iota // nothing listens: the kernel refuses, as the device behind the forward would
	passes
	drops
)

func (f *forward) mode() mode {
	switch {
	case !f.present, f.to.gone():
		return drops
	case f.to.running():
		return passes
	}
	return closed
}

func newRouter(p *provider, log *slog.Logger) *router {
	return &router{provider: p, log: log, forwards: map[door]*forward{}, holding: map[door]held{}, flows: map[net.Conn]bool{}}
}

// connect gets an address from the provider and opens the ports on it.
func (r *router) connect(wish netip.Addr) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	addr, err := r.provider.lease(wish)
	if err != nil {
		return err
	}
	r.wan = addr
	return r.bind()
}

// renumber takes another address. Every connection over the old one dies silently, as do its ports.
func (r *router) renumber() (before, after netip.Addr, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	before = r.wan
	after, err = r.provider.lease(netip.Addr{})
	if err != nil {
		return before, before, err
	}
	for _, g := range r.ghosts {
		_ = g.Close()
	}
	r.ghosts = nil
	for d, h := range r.holding {
		if h.listener != nil {
			_ = h.listener.Close()
		}
		delete(r.holding, d)
		if ghost, err := d.drop(before); err == nil {
			r.ghosts = append(r.ghosts, ghost)
		}
	}
	for c := range r.flows {
		_ = c.Close()
	}
	clear(r.flows)
	r.wan = after
	if r.gateway != nil {
		defer func() { go r.gateway.plug.tell() }() // it takes our lock
	}
	r.provider.release(before)
	return before, after, r.bind()
}

// bind makes every WAN port what its forward says. The caller holds r.mu.
func (r *router) bind() error {
	var first error
	for d, f := range r.forwards {
		want, now := f.mode(), r.holding[d]
		if r.dark || r.ways && want == closed { // who refuses, and from how far, is answered by the way
			want = drops
		}
		if want == now.mode && (want == closed || now.listener != nil) {
			continue
		}
		if now.listener != nil {
			_ = now.listener.Close()
		}
		next := held{mode: want}
		at := netip.AddrPortFrom(r.wan, d.port)
		var err error
		switch want {
		case drops:
			next.listener, err = d.drop(r.wan)
		case passes:
			if d.transport == probe.UDP {
				next.listener, err = passDatagrams(at, f.to.home, r.reach())
				break
			}
			var l net.Listener
			if l, err = listenBeyond(at, r.reach()); err == nil {
				next.listener = l
				go r.pass(l, f.to.home)
			}
		}
		if err != nil {
			next.listener = nil
			if first == nil {
				first = fmt.Errorf("router at %s: %w", at, err)
			}
		}
		r.holding[d] = next
	}
	return first
}

// reach is how many hops what comes to a port has to be able to go at least; 0 where hop limits are not acted on.
func (r *router) reach() int {
	if !r.ways {
		return 0
	}
	_, last := r.distances()
	return last
}

// drop leaves everything that comes to a port of an address without an answer.
func (d door) drop(at netip.Addr) (io.Closer, error) {
	if d.transport == probe.UDP {
		return dropDatagrams(netip.AddrPortFrom(at, d.port))
	}
	return dropPort(netip.AddrPortFrom(at, d.port))
}

// change edits forwards or devices and brings the ports in line.
func (r *router) change(f func()) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	f()
	return r.bind()
}

func (r *router) pass(l net.Listener, to netip.AddrPort) {
	for {
		outside, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer outside.Close()
			inside, err := net.DialTimeout("tcp4", to.String(), 2*time.Second)
			if err != nil {
				return
			}
			defer inside.Close()
			r.flow(inside, true)
			defer r.flow(inside, false)
			go func() {
				_, _ = io.Copy(inside, outside)
				_ = inside.(*net.TCPConn).CloseWrite()
			}()
			if _, _ = io.Copy(outside, inside); r.isDark() {
				_, _ = io.Copy(io.Discard, outside) // the line died under it: nobody out there is told
			}
		}()
	}
}

func (r *router) isDark() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.dark
}

func (r *router) flow(c net.Conn, on bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case !on:
		delete(r.flows, c)
	case r.dark: // the line was cut while it was opened: it must not live on
		_ = c.Close()
	default:
		r.flows[c] = true
	}
}

// darkWait is how long it takes to find out that a line is dead.
const darkWait = 500 * time.Millisecond

// Dial opens a connection from inside the site: it leaves from the WAN address. To the WAN address itself there is no way
// from inside, as on most routers.
func (r *router) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	target, err := net.ResolveTCPAddr(strings.Replace(network, "udp", "tcp", 1), address)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	from, dark := r.wan, r.dark
	r.mu.Unlock()
	if dark {
		select {
		case <-time.After(darkWait):
		case <-ctx.Done():
		}
		return nil, &net.OpError{Op: "dial", Net: network, Addr: target, Err: syscall.ETIMEDOUT}
	}
	if ip, ok := netip.AddrFromSlice(target.IP); ok && ip.Unmap() == from {
		return nil, &net.OpError{Op: "dial", Net: network, Addr: target, Err: syscall.ECONNREFUSED}
	}
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: from.AsSlice()}, Timeout: 3 * time.Second}
	if strings.HasPrefix(network, "udp") {
		dialer.LocalAddr = &net.UDPAddr{IP: from.AsSlice()}
	}
	c, err := dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	r.flow(c, true)
	return &tracked{Conn: c, router: r}, nil
}

type tracked struct {
	net.Conn
	router *router
}

func (t *tracked) Close() error {
	t.router.flow(t.Conn, false)
	return t.Conn.Close()
}

func (r *router) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.gateway != nil {
		_ = r.gateway.conn.Close()
		r.gateway.plug.close()
	}
	for _, h := range r.holding {
		if h.listener != nil {
			_ = h.listener.Close()
		}
	}
	for _, g := range r.ghosts {
		_ = g.Close()
	}
	for c := range r.flows {
		_ = c.Close()
	}
}
