package lab

import (
	"errors"
	"net"
	"syscall"
	"time"
)

// portTries and portPause bound how long a port that is taken is waited for: a server that was just stopped may still be closing its
// sockets.
const portTries, portPause = 100, 10 * time.Millisecond

// bothPorts opens the same port of an address for UDP and TCP. Port 0 picks one that is free for both.
func bothPorts(address string) (u net.PacketConn, l net.Listener, err error) {
	for range portTries {
		if u, err = net.ListenPacket("udp", address); err == nil {
			if l, err = net.Listen("tcp", u.LocalAddr().String()); err == nil {
				return u, l, nil
			}
			_ = u.Close()
		}
		if !errors.Is(err, syscall.EADDRINUSE) {
			break
		}
		time.Sleep(portPause)
	}
	return nil, nil, err
}
