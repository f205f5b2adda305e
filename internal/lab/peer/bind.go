package peer

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"sync"

	"golang.zx2c4.com/wireguard/conn"

	"inkpost.example/inkpost/internal/wire/stun"
)

// bound is a WireGuard socket on one address: the usual one listens on all.
type bound struct {
	at netip.Addr
	mu sync.Mutex
	c  *net.UDPConn
}

func boundTo(at netip.Addr) *bound { return &bound{at: at} }

// Open implements conn.Bind.
func (b *bound) Open(port uint16) ([]conn.ReceiveFunc, uint16, error) {
	c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(b.at, port)))
	if err != nil {
		return nil, 0, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.c = c
	receive := func(packets [][]byte, sizes []int, from []conn.Endpoint) (int, error) {
		n, at, err := c.ReadFromUDPAddrPort(packets[0])
		if err != nil {
			return 0, err
		}
		sizes[0], from[0] = n, &conn.StdNetEndpoint{AddrPort: at}
		return 1, nil
	}
	return []conn.ReceiveFunc{receive}, uint16(c.LocalAddr().(*net.UDPAddr).Port), nil
}

// Close implements conn.Bind.
func (b *bound) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.c == nil {
		return nil
	}
	err := b.c.Close()
	b.c = nil
	return err
}

// SetMark implements conn.Bind.
func (b *bound) SetMark(uint32) error { return nil }

// BatchSize implements conn.Bind.
func (b *bound) BatchSize() int { return 1 }

// ParseEndpoint implements conn.Bind.
func (b *bound) ParseEndpoint(s string) (conn.Endpoint, error) {
	at, err := netip.ParseAddrPort(s)
	return &conn.StdNetEndpoint{AddrPort: at}, err
}

// Send implements conn.Bind.
func (b *bound) Send(packets [][]byte, to conn.Endpoint) error {
	b.mu.Lock()
	c := b.c
	b.mu.Unlock()
	at, ok := to.(*conn.StdNetEndpoint)
	if c == nil || !ok {
		return errors.New("not bound")
	}
	for _, p := range packets {
		if _, err := c.WriteToUDPAddrPort(p, at.AddrPort); err != nil {
			return err
		}
	}
	return nil
}

// serving runs a STUN responder until it is closed.
func serving(r *stun.Responder) closer {
	ctx, stop := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { _ = r.Serve(ctx) })
	return func() { stop(); done.Wait() }
}
