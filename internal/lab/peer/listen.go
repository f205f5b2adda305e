package peer

import (
	"crypto/ecdh"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.zx2c4.com/wireguard/device"
	"golang.zx2c4.com/wireguard/tun/tuntest"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/stun"
)

// Listen runs the peer at an address until it is closed. Error: the port cannot be opened.
func (p Peer) Listen(transport probe.Transport, at netip.AddrPort) (io.Closer, error) {
	if transport != probe.UDP {
		l, err := net.Listen("tcp", at.String())
		if err != nil {
			return nil, err
		}
		s := &streams{listener: l, peer: p, open: map[net.Conn]bool{}}
		go s.accept()
		return s, nil
	}
	if p.Kind == probe.KindWireGuard {
		return p.tunnel(at)
	}
	if p.Kind == probe.KindSTUN {
		r, err := stun.Listen(at.String())
		if err != nil {
			return nil, err
		}
		return serving(r), nil
	}
	c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, err
	}
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, from, err := c.ReadFromUDPAddrPort(buffer)
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				continue
			}
			if answer := p.Answer(buffer[:n]); answer != nil {
				_, _ = c.WriteToUDPAddrPort(answer, from)
			}
		}
	}()
	return c, nil
}

// streams is a peer that listens on TCP.
type streams struct {
	listener net.Listener
	peer     Peer
	mu       sync.Mutex
	open     map[net.Conn]bool
}

func (s *streams) accept() {
	for {
		c, err := s.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(20 * time.Millisecond)
			continue
		}
		s.mu.Lock()
		if s.open == nil {
			_ = c.Close()
		} else {
			s.open[c] = true
		}
		s.mu.Unlock()
		go func() {
			s.peer.Serve(c)
			s.mu.Lock()
			delete(s.open, c)
			s.mu.Unlock()
		}()
	}
}

// Close ends the peer and every conversation with it.
func (s *streams) Close() error {
	err := s.listener.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.open {
		_ = c.Close()
	}
	s.open = nil
	return err
}

// StaticKey is the public key of a WireGuard peer.
func (p Peer) StaticKey() []byte {
	s := p.seed()
	key, err := ecdh.X25519().NewPrivateKey(s[:])
	if err != nil {
		return nil
	}
	return key.PublicKey().Bytes()
}

// tunnel is a WireGuard device in user space, without a network behind it, that knows one peer.
func (p Peer) tunnel(at netip.AddrPort) (io.Closer, error) {
	d := device.NewDevice(tuntest.NewChannelTUN().TUN(), boundTo(at.Addr()), device.NewLogger(device.LogLevelSilent, ""))
	s := p.seed()
	config := fmt.Sprintf("private_key=%s\nlisten_port=%d\n", hex.EncodeToString(s[:]), at.Port())
	for i, key := range slices.Collect(slices.Chunk(p.Keys, 32)) {
		config += fmt.Sprintf("public_key=%s\nallowed_ip=192.0.2.%d/32\n", hex.EncodeToString(key), i+1)
	}
	err := d.IpcSet(config)
	if err == nil {
		err = d.Up()
	}
	if err != nil {
		d.Close()
		return nil, fmt.Errorf("WireGuard at %s: %w", at, err)
	}
	return closer(d.Close), nil
}

type closer func()

// Close implements io.Closer.
func (c closer) Close() error { c(); return nil }
