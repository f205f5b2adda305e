//go:build !linux

package authdns

import (
	"net"
	"net/netip"
)

// batch takes packets from a socket and gives their replies back; one at a time on this system. It has one user.
type batch struct {
	conn    *net.UDPConn
	buffer  [maxQuery]byte
	length  int
	client  netip.AddrPort
	replies [1][]byte
	size    int
}

func newBatch(conn *net.UDPConn) (*batch, error) {
	return &batch{conn: conn, replies: [1][]byte{make([]byte, 2048)}}, nil
}

func (b *batch) receive() (int, error) {
	n, from, err := b.conn.ReadFromUDPAddrPort(b.buffer[:])
	if err != nil {
		return 0, err
	}
	b.length, b.client = n, from
	return 1, nil
}

func (b *batch) packet(int) []byte       { return b.buffer[:b.length] }
func (b *batch) from(int) netip.AddrPort { return b.client }
func (b *batch) reply(_, n int)          { b.size = n }

func (b *batch) send() (sent int) {
	if b.size > 0 {
		if _, err := b.conn.WriteToUDPAddrPort(b.replies[0][:b.size], b.client); err == nil {
			sent = 1
		}
	}
	b.size = 0
	return sent
}
