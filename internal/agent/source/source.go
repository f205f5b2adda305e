// Package source holds the ways in which an agent learns its link's WAN address: one file each, behind one interface.
package source

import (
	"context"
	"net"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// Source is a way of learning a link's WAN address over IPv4 and IPv6.
//
// Learn asks now, and returns when all have answered, when ctx ends, or after Limit, whichever is first. It returns one report for each
// voice that it asked (a server, a protocol, an interface), and at least one. A report has the Kind of the source, the time at which it was
// asked, and either an address or a Problem in words that say what to do; it never has an address that the voice did not give, nor one of
// the other family in a family's place. A report says what was said, even if that cannot be right: judging it is up to the core. Learn may
// be called again at any time, and by several goroutines.
//
// Package sourcetest checks a source against this.
type Source interface {
	Kind() wan.Source
	Learn(ctx context.Context) []wan.Report
}

// Limit is the longest that a source takes.
const Limit = 4 * time.Second

// Network is the way out of the link.
type Network struct {
	// Dial opens connections: "tcp4", "tcp6", "udp4" or "udp6".
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Interface names the interface that the link is on; "" leaves that to the routes.
	Interface string
	// Gateway is the router, if it is not the default route's.
	Gateway netip.Addr
	// Search is where a UPnP gateway is looked for; the zero value searches the LAN.
	Search netip.AddrPort
}

func report(kind wan.Source, via string, at time.Time) wan.Report {
	return wan.Report{Source: kind, Via: via, At: at}
}

func proto(base string, six bool) string {
	if six {
		return base + "6"
	}
	return base + "4"
}
