package lab

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// dropListener holds a TCP port whose packets the kernel throws away unread: to the outside, a firewall that drops.
func dropListener(at netip.AddrPort) (net.Listener, error) {
	program, err := bpf.Assemble([]bpf.Instruction{bpf.RetConstant{Val: 0}})
	if err != nil {
		return nil, err
	}
	filter := make([]unix.SockFilter, len(program))
	for i, op := range program {
		filter[i] = unix.SockFilter{Code: op.Op, Jt: op.Jt, Jf: op.Jf, K: op.K}
	}
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var failed error
		err := c.Control(func(fd uintptr) {
			failed = unix.SetsockoptSockFprog(int(fd), unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]})
		})
		if err != nil {
			return err
		}
		return failed
	}}
	l, err := config.Listen(context.Background(), "tcp4", at.String())
	if err != nil {
		return nil, fmt.Errorf("drop %s: %w", at, err)
	}
	return l, nil
}
