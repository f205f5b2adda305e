package lab

import (
	"net"
	"strings"
)

// bothPorts opens the same port of an address for UDP and TCP. Port 0 picks one that is free for both.
func bothPorts(address string) (u net.PacketConn, l net.Listener, err error) {
	for range 20 { // a port that is free for UDP may be taken for TCP
		if u, err = net.ListenPacket("udp", address); err != nil {
			return nil, nil, err
		}
		if l, err = net.Listen("tcp", u.LocalAddr().String()); err == nil {
			return u, l, nil
		}
		_ = u.Close()
		if !strings.HasSuffix(address, ":0") {
			break
		}
	}
	return nil, nil, err
}
