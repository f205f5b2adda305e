package agent

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"inkpost.example/inkpost/internal/core/wan"
)

// Neighbours implements LAN: the kernel's table of both families, without entries that failed.
func (SystemLAN) Neighbours(context.Context) ([]Neighbour, error) {
	list, err := netlink.NeighList(0, 0)
	if err != nil {
		return nil, fmt.Errorf("the neighbour table cannot be read: %w", err)
	}
	var out []Neighbour
	for _, n := range list {
		a, ok := netip.AddrFromSlice(n.IP)
		if !ok || len(n.HardwareAddr) != 6 || n.State&(netlink.NUD_FAILED|netlink.NUD_INCOMPLETE|netlink.NUD_NOARP) != 0 {
			continue
		}
		if len(out) == NeighboursMost {
			return out, ErrManyNeighbours
		}
		before := n.State&(netlink.NUD_STALE|netlink.NUD_DELAY|netlink.NUD_PROBE) != 0
		out = append(out, Neighbour{a.Unmap(), n.HardwareAddr.String(), before, time.Duration(n.Confirmed) * tick})
	}
	return out, nil
}

// tick is the kernel's unit of time towards programs (USER_HZ).
const tick = 10 * time.Millisecond

// Cannot implements LAN.
func (SystemLAN) Cannot() []string { return nil }

// Prefixes implements Searcher.
func (l SystemLAN) Prefixes() []netip.Prefix {
	out := []netip.Prefix{}
	for _, a := range l.own() {
		if a.Addr().Is6() && a.Bits() != 64 {
			continue
		}
		out = append(out, a.Masked())
	}
	return out
}

// own lists the machine's own addresses on LANs, with their prefixes: private IPv4 ones, and global IPv6 ones that are not
// deprecated (RFC 4862 section 5.5.4).
func (SystemLAN) own() (out []netip.Prefix) {
	list, err := netlink.AddrList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return nil
	}
	for _, a := range list {
		ip, ok := netip.AddrFromSlice(a.IP)
		ones, _ := a.Mask.Size()
		if ip = ip.Unmap(); !ok || ip.IsLoopback() || a.Flags&(unix.IFA_F_DEPRECATED|unix.IFA_F_TENTATIVE) != 0 {
			continue
		}
		if ip.Is4() && wan.OnLAN(ip) && !ip.IsLinkLocalUnicast() && ones < 31 || ip.Is6() && ip.IsGlobalUnicast() && !ip.IsPrivate() {
			out = append(out, netip.PrefixFrom(ip, ones))
		}
	}
	return out
}

// discard is a port at which nobody answers (RFC 863): what is sent there only makes the system find its addressee.
const discard = 9

// Ask implements Searcher, by an empty datagram to each.
func (l SystemLAN) Ask(_ context.Context, list []netip.Addr) {
	conn, err := net.ListenUDP("udp", nil)
	if err != nil {
		return
	}
	defer conn.Close()
	near := l.Prefixes()
	for _, a := range list {
		if contains(near, a) {
			_, _ = conn.WriteToUDPAddrPort(nil, netip.AddrPortFrom(a, discard))
		}
	}
}

// AskAll implements Searcher: an echo request to all nodes (RFC 4291 section 2.7.1) from each global address, as nodes answer from an
// address of the same prefix. The system lets everybody send that, or root only.
func (l SystemLAN) AskAll(ctx context.Context) {
	for _, own := range l.own() {
		if !own.Addr().Is6() {
			continue
		}
		zone := zoneOf(own.Addr())
		if zone == "" {
			continue
		}
		conn, err := icmp.ListenPacket("udp6", own.Addr().String())
		var to net.Addr = &net.UDPAddr{IP: net.IPv6linklocalallnodes, Zone: zone}
		if err != nil {
			if conn, err = icmp.ListenPacket("ip6:ipv6-icmp", own.Addr().String()); err != nil {
				continue
			}
			to = &net.IPAddr{IP: net.IPv6linklocalallnodes, Zone: zone}
		}
		request := icmp.Message{Type: ipv6.ICMPTypeEchoRequest, Body: &icmp.Echo{ID: 0x1a9, Seq: 1, Data: []byte("inkpost agent")}}
		if packet, err := request.Marshal(nil); err == nil {
			_, _ = conn.WriteTo(packet, to)
			answerers(ctx, l, conn)
		}
		_ = conn.Close()
	}
}

// answerers makes the system resolve whoever answers: an answer alone brings no MAC.
func answerers(ctx context.Context, l SystemLAN, conn *icmp.PacketConn) {
	_ = conn.SetReadDeadline(time.Now().Add(askWait / 2))
	buffer := make([]byte, 256)
	var list []netip.Addr
	for len(list) < NeighboursMost {
		_, from, err := conn.ReadFrom(buffer)
		if err != nil {
			break
		}
		var a netip.Addr
		switch from := from.(type) {
		case *net.UDPAddr:
			a = from.AddrPort().Addr()
		case *net.IPAddr:
			a, _ = netip.AddrFromSlice(from.IP)
		}
		list = append(list, a.WithZone(""))
	}
	l.Ask(ctx, list)
}

// zoneOf returns the interface that has an address.
func zoneOf(own netip.Addr) string {
	all, err := net.Interfaces()
	if err != nil {
		return ""
	}
	for _, i := range all {
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr() == own {
				return i.Name
			}
		}
	}
	return ""
}
