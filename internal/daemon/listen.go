package daemon

import (
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"

	"inkpost.example/inkpost/internal/access/throttle"
)

// reserved are descriptors for the database, the listeners and files, which nobody outside can use up.
const reserved = 64

// shares are parts of the process's file descriptors, but for the reserved ones.
type shares struct{ probes, http, dns, redirects int }

// parted splits the descriptors that the process may have: half for probes, 4,096 at most, a sixteenth for
// connections that the service makes itself, the rest for incoming ones.
func parted(files uint64) shares {
	free := int(min(max(files, 2*reserved), 1<<20)) - reserved
	s := shares{probes: min(free/2, 4096), dns: min(free/8, 256), redirects: min(free/16, 1024)}
	s.http = min(free-s.probes-s.dns-s.redirects-free/16, 1<<16) // an agent holds one for as long as it runs
	return s
}

// openFiles is how many file descriptors the process may have.
func openFiles() uint64 {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 1024
	}
	return limit.Cur
}

// bounded is a listener with a limit on open connections, and another per client network: a client that holds many and says nothing locks
// nobody else out. Trusted proxies speak for many and are not limited by network.
type bounded struct {
	net.Listener
	most, ofNetwork int
	exempt          []netip.Prefix

	mu   sync.Mutex
	open map[netip.Prefix]int
	all  int
}

func bound(l net.Listener, most int, exempt []netip.Prefix) *bounded {
	return &bounded{Listener: l, most: most, ofNetwork: min(max(most/4, 8), 512), exempt: exempt, open: map[netip.Prefix]int{}}
}

// Accept implements net.Listener. A connection too many is closed at once.
func (b *bounded) Accept() (net.Conn, error) {
	for {
		c, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from, _ := netip.ParseAddrPort(c.RemoteAddr().String())
		network := throttle.Network(from.Addr())
		if slices.ContainsFunc(b.exempt, func(p netip.Prefix) bool { return p.Contains(from.Addr().Unmap()) }) {
			network = netip.Prefix{}
		}
		if !b.enter(network) {
			_ = c.Close()
			continue
		}
		return &boundedConn{Conn: c, leave: sync.OnceFunc(func() { b.leave(network) })}, nil
	}
}

func (b *bounded) enter(network netip.Prefix) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.all >= b.most || network.IsValid() && b.open[network] >= b.ofNetwork {
		return false
	}
	b.all++
	b.open[network]++
	return true
}

func (b *bounded) leave(network netip.Prefix) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.open[network]--; b.open[network] <= 0 {
		delete(b.open, network)
	}
}

type boundedConn struct {
	net.Conn
	leave func()
}

// Close implements net.Conn.
func (c *boundedConn) Close() error {
	c.leave()
	return c.Conn.Close()
}
