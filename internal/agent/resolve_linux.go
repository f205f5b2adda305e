package agent

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sys/unix"
)

// ARP (RFC 826), asked by ourselves: the system believes in a neighbour for up to a minute without asking it again. It takes the right to
// open raw sockets (CAP_NET_RAW).
const (
	arpLength = 28
	arpTries  = 3
	arpWait   = 400 * time.Millisecond
)

// Resolve implements Resolver.
func (l SystemLAN) Resolve(ctx context.Context, list []netip.Addr) (holders map[netip.Addr]string, able bool) {
	holders = map[netip.Addr]string{}
	for _, own := range l.own() {
		var near []netip.Addr
		for _, a := range list {
			if a.Is4() && own.Contains(a) {
				near = append(near, a)
			}
		}
		if len(near) == 0 {
			continue
		}
		if !askWho(ctx, own.Addr(), near, holders) {
			return nil, false
		}
		able = true
	}
	return holders, able
}

// askWho asks on the network of one of our addresses who has others.
func askWho(ctx context.Context, own netip.Addr, list []netip.Addr, holders map[netip.Addr]string) bool {
	at, err := net.InterfaceByName(zoneOf(own))
	if err != nil || len(at.HardwareAddr) != 6 {
		return false
	}
	protocol := binary.BigEndian.Uint16([]byte{unix.ETH_P_ARP & 0xff, unix.ETH_P_ARP >> 8})
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(protocol))
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	if unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: protocol, Ifindex: at.Index}) != nil {
		return false
	}
	timeout := unix.NsecToTimeval(int64(50 * time.Millisecond))
	if unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &timeout) != nil {
		return false
	}
	everybody := &unix.SockaddrLinklayer{Protocol: protocol, Ifindex: at.Index, Halen: 6, Addr: [8]byte{255, 255, 255, 255, 255, 255}}
	buffer := make([]byte, 128)
	for range arpTries {
		missing := slices.DeleteFunc(slices.Clone(list), func(a netip.Addr) bool { return holders[a] != "" })
		if len(missing) == 0 || ctx.Err() != nil {
			break
		}
		for _, a := range missing {
			if unix.Sendto(fd, arpRequest(at.HardwareAddr, own, a), 0, everybody) != nil {
				return false
			}
		}
		for until := time.Now().Add(arpWait); time.Now().Before(until) && len(holders) < len(list) && ctx.Err() == nil; {
			n, _, err := unix.Recvfrom(fd, buffer, 0)
			if err != nil {
				continue // nothing came within the time limit
			}
			if a, mac, ok := arpAnswer(buffer[:n]); ok && slices.Contains(list, a) && holders[a] == "" {
				holders[a] = mac
			}
		}
	}
	return true
}

func arpRequest(mac net.HardwareAddr, own, who netip.Addr) []byte {
	b := make([]byte, arpLength)
	copy(b, []byte{0, 1, 8, 0, 6, 4, 0, 1}) // Ethernet, IPv4, request
	copy(b[8:], mac)
	from, to := own.As4(), who.As4()
	copy(b[14:], from[:])
	copy(b[24:], to[:])
	return b
}

// arpAnswer reads who has an address.
func arpAnswer(b []byte) (a netip.Addr, mac string, ok bool) {
	if len(b) < arpLength || binary.BigEndian.Uint16(b) != 1 || binary.BigEndian.Uint16(b[2:]) != 0x0800 || b[4] != 6 || b[5] != 4 ||
		binary.BigEndian.Uint16(b[6:]) != 2 {
		return a, "", false
	}
	return netip.AddrFrom4([4]byte(b[14:18])), net.HardwareAddr(b[8:14]).String(), true
}
