package lab

import (
	"fmt"
	"io"
	"net/netip"
	"sync"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
)

// answerer is one service on a simulated device: a real server on the device's loopback address.
type answerer struct {
	home      netip.AddrPort // where the site's record has it
	transport probe.Transport
	peer      peer.Peer

	mu   sync.Mutex
	at   netip.AddrPort // where it is
	away bool           // it is not at home: asleep, or moved
	open io.Closer
	hole io.Closer // what leaves those without an answer who come to its home meanwhile
}

func (a *answerer) running() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.open != nil
}

func (a *answerer) start() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.open != nil || !a.at.Addr().IsValid() {
		return nil
	}
	open, err := a.peer.Listen(a.transport, a.at)
	if err != nil {
		return fmt.Errorf("device service: %w", err)
	}
	a.open = open
	return nil
}

func (a *answerer) stop() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.open != nil {
		_ = a.open.Close()
		a.open = nil
	}
}

// become replaces the server by another of the same protocol and another identity.
func (a *answerer) become(name string) error {
	a.stop()
	a.mu.Lock()
	a.peer.Name = name
	a.mu.Unlock()
	return a.start()
}

// know adds a peer to a WireGuard server.
func (a *answerer) know(key []byte) error {
	a.stop()
	a.mu.Lock()
	a.peer.Keys = key
	a.mu.Unlock()
	return a.start()
}
