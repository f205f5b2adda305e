package source

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"inkpost.example/inkpost/internal/wire/igd"
	"inkpost.example/inkpost/internal/wire/natpmp"
)

// gateway returns the router of the link: as configured, or the default route's, by way of the link's interface where it is named.
func (n Network) gateway(six bool) (netip.Addr, error) {
	if n.Gateway.IsValid() {
		if n.Gateway.Is6() != six {
			return netip.Addr{}, errors.New("no router is configured for this family")
		}
		return n.Gateway, nil
	}
	family := netlink.FAMILY_V4
	if six {
		family = netlink.FAMILY_V6
	}
	routes, err := netlink.RouteList(nil, family)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("the routes cannot be read: %w", err)
	}
	index := 0
	if n.Interface != "" {
		i, err := net.InterfaceByName(n.Interface)
		if err != nil {
			return netip.Addr{}, fmt.Errorf("there is no interface %q", n.Interface)
		}
		index = i.Index
	}
	best := -1
	for i, r := range routes {
		whole := r.Dst == nil
		if !whole {
			ones, _ := r.Dst.Mask.Size()
			whole = ones == 0
		}
		if whole && r.Gw != nil && (index == 0 || r.LinkIndex == index) && (best < 0 || r.Priority < routes[best].Priority) {
			best = i
		}
	}
	if best < 0 {
		return netip.Addr{}, errors.New("there is no default route: this machine has no router")
	}
	a, _ := netip.AddrFromSlice(routes[best].Gw)
	if a = a.Unmap(); a.IsLinkLocalUnicast() && a.Is6() {
		if i, err := net.InterfaceByIndex(routes[best].LinkIndex); err == nil {
			a = a.WithZone(i.Name)
		}
	}
	return a, nil
}

// Changes calls changed whenever the kernel's routes or addresses change, until ctx ends. Where the kernel does not say, it returns
// an error with the reason: then only the regular check notices.
func Changes(ctx context.Context, changed func()) error {
	routes, addresses, done := make(chan netlink.RouteUpdate, 64), make(chan netlink.AddrUpdate, 64), make(chan struct{})
	defer close(done)
	if err := netlink.RouteSubscribe(routes, done); err != nil {
		return fmt.Errorf("the kernel does not report routes: %w", err)
	}
	if err := netlink.AddrSubscribe(addresses, done); err != nil {
		return fmt.Errorf("the kernel does not report addresses: %w", err)
	}
	for {
		select {
		case r, ok := <-routes:
			if !ok {
				return errors.New("the kernel stopped reporting routes")
			}
			if r.Table == unix.RT_TABLE_MAIN || r.Table == unix.RT_TABLE_LOCAL {
				changed()
			}
		case _, ok := <-addresses:
			if !ok {
				return errors.New("the kernel stopped reporting addresses")
			}
			changed()
		case <-ctx.Done():
			return nil
		}
	}
}

// hearPMP hears the router's notices of NAT-PMP (RFC 6886 section 3.2.1), which name its address. Those of PCP (RFC 6887 section
// 14.1) come to the same port, and name none: a router that speaks PCP only is asked by the regular check.
func (g *Gateway) hearPMP(ctx context.Context, heard func(igd.Notice)) {
	var i *net.Interface
	if g.network.Interface != "" {
		i, _ = net.InterfaceByName(g.network.Interface)
	}
	conn, err := net.ListenMulticastUDP("udp4", i, &net.UDPAddr{IP: natpmp.Group.AsSlice(), Port: natpmp.NoticePort})
	if err != nil {
		return // somebody else listens: the regular check notices
	}
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	buffer := make([]byte, 1100)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			return
		}
		external, _, err := natpmp.Read(buffer[:n])
		if err != nil {
			continue
		}
		if router, err := g.network.gateway(false); err == nil && from.Addr().Unmap() == router {
			heard(igd.Notice{External: external})
		}
	}
}
