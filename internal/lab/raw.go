package lab

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"inkpost.example/inkpost/internal/core/probe"
)

// way watches what is sent to public addresses and answers in the place of the routers on the way: it takes the right to open raw sockets.
type way struct {
	world *World
	heard int // a packet socket on loopback
	send  int // a raw socket
}

// openWay begins; error: why the system does not allow it.
func openWay(w *World) (*way, error) {
	lo, err := net.InterfaceByName("lo")
	if err != nil {
		return nil, err
	}
	protocol := int(binary.BigEndian.Uint16([]byte{unix.ETH_P_IP & 0xff, unix.ETH_P_IP >> 8}))
	heard, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, protocol)
	if err != nil {
		return nil, fmt.Errorf("raw sockets: %w", err)
	}
	send, err := unix.Socket(unix.AF_INET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.IPPROTO_RAW)
	if err != nil {
		_ = unix.Close(heard)
		return nil, fmt.Errorf("raw sockets: %w", err)
	}
	out := &way{w, heard, send}
	prefix := Public.Addr().As4()
	mask := ^uint32(0) << (32 - Public.Bits())
	// To a public address, coming in: TCP that opens a connection, or UDP.
	program := []bpf.Instruction{
		bpf.LoadExtension{Num: bpf.ExtType}, bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.PACKET_OUTGOING, SkipTrue: 10},
		bpf.LoadAbsolute{Off: 16, Size: 4}, bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: mask},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: binary.BigEndian.Uint32(prefix[:]), SkipTrue: 7},
		bpf.LoadAbsolute{Off: 9, Size: 1}, bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_UDP, SkipTrue: 4},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_TCP, SkipTrue: 4},
		bpf.LoadAbsolute{Off: 33, Size: 1}, bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: 0x12},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 0x02, SkipTrue: 1}, // SYN without ACK
		bpf.RetConstant{Val: 128}, bpf.RetConstant{Val: 0}}
	if err := attach(heard, program); err != nil {
		out.close()
		return nil, err
	}
	timeout := unix.NsecToTimeval(int64(200 * time.Millisecond))
	if err := unix.SetsockoptTimeval(heard, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &timeout); err != nil {
		out.close()
		return nil, err
	}
	if err := unix.Bind(heard, &unix.SockaddrLinklayer{Protocol: uint16(protocol), Ifindex: lo.Index}); err != nil {
		out.close()
		return nil, fmt.Errorf("listen on loopback: %w", err)
	}
	return out, nil
}

func (y *way) close() {
	_ = unix.Close(y.heard)
	_ = unix.Close(y.send)
}

// run answers until ctx ends.
func (y *way) run(ctx context.Context) {
	defer y.close()
	buffer := make([]byte, 256)
	for ctx.Err() == nil {
		n, _, err := unix.Recvfrom(y.heard, buffer, 0)
		if err != nil {
			continue // nothing came within the time limit
		}
		if p, ok := readPacket(buffer[:n]); ok {
			y.answer(p)
		}
	}
}

func readPacket(b []byte) (p packet, ok bool) {
	h, err := ipv4.ParseHeader(b)
	if err != nil || len(b) < h.Len+8 {
		return p, false
	}
	from, _ := netip.AddrFromSlice(h.Src.To4())
	to, _ := netip.AddrFromSlice(h.Dst.To4())
	body := b[h.Len:]
	p = packet{from: netip.AddrPortFrom(from, binary.BigEndian.Uint16(body)), to: netip.AddrPortFrom(to, binary.BigEndian.Uint16(body[2:])),
		transport: probe.UDP, limit: h.TTL, raw: append([]byte(nil), b[:h.Len+8]...)}
	if h.Protocol == unix.IPPROTO_TCP {
		p.transport, p.sequence = probe.TCP, binary.BigEndian.Uint32(body[4:])
	}
	return p, true
}

// nobody is how long a router looks for a device on its LAN before it gives up.
const nobody = 700 * time.Millisecond

func (y *way) answer(p packet) {
	switch what, sender := y.world.answer(p); what {
	case exceeded:
		y.notify(p, sender, ipv4.ICMPTypeTimeExceeded, 0)
	case unreachable:
		time.AfterFunc(nobody, func() { y.notify(p, sender, ipv4.ICMPTypeDestinationUnreachable, 1) })
	case refused:
		if p.transport == probe.UDP {
			y.notify(p, sender, ipv4.ICMPTypeDestinationUnreachable, 3)
		} else {
			y.reset(p)
		}
	}
}

// notify sends an ICMP message about a packet (RFC 792).
func (y *way) notify(p packet, sender netip.Addr, kind ipv4.ICMPType, code int) {
	m := icmp.Message{Type: kind, Code: code, Body: &icmp.TimeExceeded{Data: p.raw}}
	if kind == ipv4.ICMPTypeDestinationUnreachable {
		m.Body = &icmp.DstUnreach{Data: p.raw}
	}
	if body, err := m.Marshal(nil); err == nil {
		y.emit(sender, p.from.Addr(), unix.IPPROTO_ICMP, body)
	}
}

// reset refuses a connection, as the device would (RFC 9293, 3.10.7.1).
func (y *way) reset(p packet) {
	b := make([]byte, 20)
	binary.BigEndian.PutUint16(b, p.to.Port())
	binary.BigEndian.PutUint16(b[2:], p.from.Port())
	binary.BigEndian.PutUint32(b[8:], p.sequence+1)
	b[12], b[13] = 5<<4, 0x14 // RST and ACK
	from, to := p.to.Addr().As4(), p.from.Addr().As4()
	sum := uint32(unix.IPPROTO_TCP) + uint32(len(b))
	for _, part := range [][]byte{from[:], to[:], b} {
		for i := 0; i < len(part); i += 2 {
			sum += uint32(binary.BigEndian.Uint16(part[i:]))
		}
	}
	sum = sum&0xffff + sum>>16
	sum += sum >> 16
	binary.BigEndian.PutUint16(b[16:], ^uint16(sum))
	y.emit(p.to.Addr(), p.from.Addr(), unix.IPPROTO_TCP, b)
}

func (y *way) emit(from, to netip.Addr, protocol int, body []byte) {
	h := ipv4.Header{Version: 4, Len: ipv4.HeaderLen, TotalLen: ipv4.HeaderLen + len(body), TTL: 60, Protocol: protocol,
		Src: from.AsSlice(),
		Dst: to.AsSlice()}
	if head, err := h.Marshal(); err == nil {
		_ = unix.Sendto(y.send, append(head, body...), 0, &unix.SockaddrInet4{Addr: to.As4()})
	}
}

// attach has a socket take only what a program lets through (socket(7), SO_ATTACH_FILTER).
func attach(fd int, program []bpf.Instruction) error {
	raw, err := bpf.Assemble(program)
	if err != nil {
		return err
	}
	filter := make([]unix.SockFilter, len(raw))
	for i, op := range raw {
		filter[i] = unix.SockFilter{Code: op.Op, Jt: op.Jt, Jf: op.Jf, K: op.K}
	}
	return unix.SetsockoptSockFprog(fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER,
		&unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]})
}

// nothing lets no packet through.
var nothing = []bpf.Instruction{bpf.RetConstant{Val: 0}}

// beyond lets through what may go further than a number of hops.
func beyond(hops int) []bpf.Instruction {
	const networkHeader = 0xfff00000 // SKF_NET_OFF
	return []bpf.Instruction{bpf.LoadAbsolute{Off: networkHeader + 8, Size: 1},
		bpf.JumpIf{Cond: bpf.JumpLessOrEqual, Val: uint32(hops), SkipTrue: 1}, bpf.RetConstant{Val: 1 << 16}, bpf.RetConstant{Val: 0}}
}

// filtered has the socket of a listener take only what a program lets through; nil lets everything through.
func filtered(program []bpf.Instruction) *net.ListenConfig {
	return &net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var failed error
		if program == nil {
			return nil
		}
		if err := c.Control(func(fd uintptr) { failed = attach(int(fd), program) }); err != nil {
			return err
		}
		return failed
	}}
}

// filteredPort listens with a filter that lets nothing through.
func filteredPort(at netip.AddrPort) (io.Closer, error) {
	return filtered(nothing).Listen(context.Background(), "tcp4", at.String())
}

func only(hops int) []bpf.Instruction {
	if hops == 0 {
		return nil
	}
	return beyond(hops)
}

// listenBeyond listens for what may go further than a number of hops; 0 takes everything.
func listenBeyond(at netip.AddrPort, hops int) (net.Listener, error) {
	return filtered(only(hops)).Listen(context.Background(), "tcp4", at.String())
}

// datagramsBeyond takes datagrams that may go further than a number of hops; 0 takes all.
func datagramsBeyond(at netip.AddrPort, hops int) (*net.UDPConn, error) {
	c, err := filtered(only(hops)).ListenPacket(context.Background(), "udp4", at.String())
	if err != nil {
		return nil, err
	}
	return c.(*net.UDPConn), nil
}
