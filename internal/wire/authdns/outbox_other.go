//go:build !linux

package authdns

import (
	"net"
	"net/netip"
)

type replyAddr struct{ to netip.AddrPort }

func (b *batch) replyAddr(int) replyAddr { return replyAddr{b.client} }

// outbox sends replies that are ready later than their batch, one at a time on this system.
type outbox struct{ conn *net.UDPConn }

func newOutbox(conn *net.UDPConn) (*outbox, error) { return &outbox{conn}, nil }

func (b *outbox) post(p replyAddr, text []byte, _ bool) { _, _ = b.conn.WriteToUDPAddrPort(text, p.to) }
