package lab

import (
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// door is a port on a router's WAN side.
type door struct {
	transport probe.Transport
	port      uint16
}

// idle is how long a router remembers where a datagram came from (RFC 4787 section 4.3 asks for two minutes at least).
const idle = 2 * time.Minute

// passDatagrams carries datagrams that come to a WAN port, and may go further than a number of hops, on to a device, and its answers back.
func passDatagrams(at, to netip.AddrPort, hops int) (io.Closer, error) {
	outside, err := datagramsBeyond(at, hops)
	if err != nil {
		return nil, err
	}
	go func() {
		var mu sync.Mutex
		flows := map[netip.AddrPort]*net.UDPConn{}
		defer func() {
			mu.Lock()
			defer mu.Unlock()
			for _, c := range flows {
				_ = c.Close()
			}
		}()
		buffer := make([]byte, 4096)
		for {
			n, from, err := outside.ReadFromUDPAddrPort(buffer)
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				continue
			}
			mu.Lock()
			inside := flows[from]
			if inside == nil {
				if inside, err = net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(to)); err != nil {
					mu.Unlock()
					continue
				}
				flows[from] = inside
				go func() {
					answer := make([]byte, 4096)
					for {
						_ = inside.SetReadDeadline(time.Now().Add(idle))
						n, err := inside.Read(answer)
						if err != nil {
							break
						}
						_, _ = outside.WriteToUDPAddrPort(answer[:n], from)
					}
					mu.Lock()
					delete(flows, from)
					mu.Unlock()
					_ = inside.Close()
				}()
			}
			mu.Unlock()
			_, _ = inside.Write(buffer[:n])
		}
	}()
	return outside, nil
}

// dropDatagrams holds a UDP port and never says a word.
func dropDatagrams(at netip.AddrPort) (io.Closer, error) {
	return net.ListenUDP("udp4", net.UDPAddrFromAddrPort(at))
}
