package lab

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/wire/natpmp"
)

// gateway answers NAT-PMP (RFC 6886) and UPnP IGD on the LAN side of a simulated router.
type gateway struct {
	conn  *net.UDPConn
	began time.Time
	plug  *plug
}

// openGateway has a router tell its WAN address at an address of its LAN side. Told is what it says if that is not the address that the
// provider gave: a router behind another device, or behind a provider that translates, has none of its own.
func (r *router) openGateway(at, told netip.Addr) error {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, natpmp.Port)))
	if err != nil {
		return fmt.Errorf("the router's NAT-PMP: %w", err)
	}
	says := func() netip.Addr {
		if told.IsValid() {
			return told
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.wan
	}
	g := &gateway{conn: conn, began: time.Now()}
	if g.plug, err = openPlug(at, says, r.listed); err != nil {
		_ = conn.Close()
		return err
	}
	r.gateway = g
	go func() {
		buffer := make([]byte, 64)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			if n != 2 || buffer[0] != 0 || buffer[1] != 0 { // it knows the one request
				_, _ = conn.WriteToUDPAddrPort([]byte{0, 128, 0, 1, 0, 0, 0, 0}, from)
				continue
			}
			reply := make([]byte, 12)
			reply[1] = 128
			binary.BigEndian.PutUint32(reply[4:], uint32(time.Since(g.began).Seconds()))
			a := says().As4()
			copy(reply[8:], a[:])
			_, _ = conn.WriteToUDPAddrPort(reply, from)
		}
	}()
	return nil
}

// listed is where the router leads a port, as a person has entered it.
func (r *router) listed(d door) (to netip.AddrPort, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.forwards[d]
	if f == nil || !f.present {
		return to, false
	}
	return f.to.home, true
}
