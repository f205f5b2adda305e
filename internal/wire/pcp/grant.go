package pcp

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/wire/datagram"
)

// CannotProvide is the result code of a gateway that cannot give the external port that was asked for (section 7.4).
const CannotProvide = 11

// Grant is a mapping of one external port to a port of this machine.
type Grant struct {
	External netip.AddrPort
	conn     net.Conn
	own      netip.Addr
	tie      nonce
	asked    wanted
}

var protocols = map[string]byte{"tcp": 6, "udp": protocolUDP}

// Map asks for a mapping of an external port, and of no other (section 13.2), to a port of this machine, for a length of time in whole
// seconds. Transport is tcp or udp. Errors: ErrNoAnswer, Refused, and those of the network.
func Map(ctx context.Context, dial datagram.Dial, gateway netip.AddrPort, transport string, external, inside uint16,
	lease time.Duration) (Grant, error) {
	protocol, ok := protocols[transport]
	if !ok {
		return Grant{}, fmt.Errorf("%q cannot be mapped; tcp and udp can", transport)
	}
	conn, err := dial(ctx, "udp4", gateway.String())
	if err != nil {
		return Grant{}, err
	}
	own, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		_ = conn.Close()
		return Grant{}, err
	}
	g := Grant{conn: conn, own: own.Addr(), asked: wanted{protocol: protocol, inside: inside, external: external,
		seconds: uint32(lease.Seconds()), strict: true}}
	_, _ = rand.Read(g.tie[:]) // never fails
	got, err := ask(ctx, conn, g.own, g.tie, g.asked)
	if g.External = got.external; err == nil && g.External.Port() != external {
		err = Refused{CannotProvide}
		g.Close()
	}
	if err != nil {
		_ = conn.Close()
		return Grant{}, err
	}
	return g, nil
}

// Close takes the mapping back. Where that is lost, it ends by itself.
func (g Grant) Close() {
	w := g.asked
	w.seconds, w.external, w.strict = 0, 0, false
	takeBack(g.conn, g.own, g.tie, w)
}
