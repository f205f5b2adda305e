package source

import (
	"context"
	"encoding/binary"
	"net/netip"
	"slices"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"inkpost.example/inkpost/internal/core/wan"
)

// maxHops is how far outwards is looked: what translates stands within the first few hops.
const maxHops = 6

// Hops lists the devices on the way out, from the router on, as far as they say who they are: each packet towards target lives for
// one hop longer. It needs no right beyond a UDP socket: the kernel hands over what routers complain about (IP_RECVERR). A hop
// that keeps silent is left out, and nothing beyond the first public one is asked for.
func Hops(ctx context.Context, target netip.Addr) []netip.Addr {
	if !target.Is4() {
		return nil
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(fd)
	if unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_RECVERR, 1) != nil {
		return nil
	}
	var out []netip.Addr
	for ttl := 1; ttl <= maxHops && ctx.Err() == nil; ttl++ {
		if unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_TTL, ttl) != nil {
			break
		}
		to := &unix.SockaddrInet4{Port: 33433 + ttl, Addr: target.As4()} // the ports that traceroute uses: nobody listens there
		if unix.Sendto(fd, []byte("hop"), 0, to) != nil {
			_, _ = complaint(fd)
			_ = unix.Sendto(fd, []byte("hop"), 0, to)
		}
		hop, ok := awaitComplaint(ctx, fd, 600*time.Millisecond)
		if !ok {
			continue
		}
		if hop == target || slices.Contains(out, hop) {
			break
		}
		out = append(out, hop)
		if wan.ClassOf(hop) == wan.ClassPublic {
			break
		}
	}
	return out
}

func awaitComplaint(ctx context.Context, fd int, limit time.Duration) (netip.Addr, bool) {
	until := time.Now().Add(limit)
	for ctx.Err() == nil {
		left := time.Until(until)
		if left <= 0 {
			break
		}
		ready := []unix.PollFd{{Fd: int32(fd)}} // errors are always reported
		if n, err := unix.Poll(ready, int(left.Milliseconds())+1); err != nil && err != unix.EINTR || n == 0 {
			break
		}
		if from, ok := complaint(fd); ok {
			return from, true
		}
	}
	return netip.Addr{}, false
}

// complaint takes one ICMP error from the socket and says who sent it (struct sock_extended_err, ip(7)).
func complaint(fd int) (netip.Addr, bool) {
	control := make([]byte, 512)
	_, n, _, _, err := unix.Recvmsg(fd, make([]byte, 64), control, unix.MSG_ERRQUEUE|unix.MSG_DONTWAIT)
	if err != nil {
		return netip.Addr{}, false
	}
	messages, err := unix.ParseSocketControlMessage(control[:n])
	if err != nil {
		return netip.Addr{}, false
	}
	const size = int(unsafe.Sizeof(unix.SockExtendedErr{}))
	for _, m := range messages {
		if m.Header.Level != unix.IPPROTO_IP || m.Header.Type != unix.IP_RECVERR || len(m.Data) < size+8 {
			continue
		}
		if m.Data[4] != unix.SO_EE_ORIGIN_ICMP || binary.NativeEndian.Uint16(m.Data[size:]) != unix.AF_INET {
			continue
		}
		return netip.AddrFrom4([4]byte(m.Data[size+4 : size+8])), true
	}
	return netip.Addr{}, false
}
