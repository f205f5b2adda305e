package daemon

import (
	"net"
	"net/netip"
	"slices"

	"github.com/pires/go-proxyproto"
)

// ByConnection says that a proxy puts whom it speaks for in front of each connection (the PROXY protocol, version 1 or 2), which it hands
// on as it is: TLS is then spoken here.
const ByConnection = "proxy-protocol"

// proxied lets trusted proxies say whom a connection is from. They have to: what they hand on without a word would count as their own, and
// an agent's address would be the proxy's. What others write there is read as what they ask.
func proxied(l net.Listener, proxies []netip.Prefix) net.Listener {
	return &proxyproto.Listener{Listener: l, ReadHeaderTimeout: headWait,
		ConnPolicy: func(o proxyproto.ConnPolicyOptions) (proxyproto.Policy, error) {
			at, err := netip.ParseAddrPort(o.Upstream.String())
			if err == nil && slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(at.Addr().Unmap()) }) {
				return proxyproto.REQUIRE, nil
			}
			return proxyproto.SKIP, nil
		}}
}

// byHeader are the proxies whose headers are believed.
func (d *Daemon) byHeader() []netip.Prefix {
	if d.o.ProxySays == ByConnection {
		return nil
	}
	return d.o.Proxies
}

// bound bounds the connections of a listener, and asks proxies whom they are from.
func (d *Daemon) bound(l net.Listener, most int) net.Listener {
	b := bound(l, most, d.o.Proxies)
	if d.o.ProxySays == ByConnection {
		return proxied(b, d.o.Proxies)
	}
	return b
}
