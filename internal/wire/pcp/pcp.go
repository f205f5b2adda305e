// Package pcp asks a gateway for its external address by the Port Control Protocol (RFC 6887).
package pcp

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/wire/datagram"
)

// Port is the gateway's (RFC 6887 section 19).
const Port = 5351

// ErrNoAnswer reports a gateway that does not speak the protocol.
var ErrNoAnswer = errors.New("the gateway does not answer PCP")

// results are the result codes of section 7.4.
var results = map[byte]string{1: "the gateway speaks another version", 2: "it is not allowed", 3: "the request is malformed",
	4: "it does not know the operation",
	5: "it does not know an option", 6: "an option is malformed", 7: "the network is failing", 8: "it is out of resources",
	9:  "it does not map this protocol",
	10: "the quota is used up", 11: "the external address cannot be given",
	12: "another device translates between us and the gateway", 13: "too many peers"}

// Refused reports a gateway that answers and maps nothing. AddressMismatch means that another device translates in front of it.
type Refused struct{ Code byte }

// AddressMismatch is the result code that tells of a device that translates between client and gateway (section 7.4).
const AddressMismatch = 12

func (e Refused) Error() string {
	if words, ok := results[e.Code]; ok {
		return "PCP: " + words
	}
	return fmt.Sprintf("PCP: result %d", e.Code)
}

const (
	version     = 2
	opMap       = 1
	protocolUDP = 17
	lifetime    = 900 // seconds: three times as long as an agent goes without asking
	header      = 24
	mapBody     = 36
)

// nonce ties an answer to its question (section 11.2).
type nonce [12]byte

// Mapping is one mapping at a gateway, to a UDP port that we hold open and on which we take nothing from anybody but the gateway:
// PCP tells the external address of a mapping only. It is kept, and renewed whenever the address is asked for, so that asking
// neither makes nor removes one.
type Mapping struct {
	conn net.Conn
	own  netip.AddrPort
	tie  nonce
}

// Open prepares a mapping; External makes it. Network is "udp4" or "udp6". Error: that of the network.
func Open(ctx context.Context, dial datagram.Dial, network string, gateway netip.AddrPort) (*Mapping, error) {
	conn, err := dial(ctx, network, gateway.String())
	if err != nil {
		return nil, err
	}
	own, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	m := &Mapping{conn: conn, own: own}
	_, _ = rand.Read(m.tie[:]) // never fails
	return m, nil
}

// External makes the mapping, or renews it (section 11.2.1), and gives its external address and the gateway's epoch: how many seconds ago
// it
// began to keep mappings (section 8.5). Errors: ErrNoAnswer, Refused, and those of the network.
func (m *Mapping) External(ctx context.Context) (external netip.Addr, epoch uint32, err error) {
	got, err := ask(ctx, m.conn, m.own.Addr(), m.tie, m.wants(lifetime))
	return got.external.Addr(), got.epoch, err
}

func (m *Mapping) wants(seconds uint32) wanted {
	return wanted{protocol: protocolUDP, inside: m.own.Port(), seconds: seconds}
}

// Close takes the mapping back. Where that is lost, it ends by itself.
func (m *Mapping) Close() { takeBack(m.conn, m.own.Addr(), m.tie, m.wants(0)) }

func ask(ctx context.Context, conn net.Conn, own netip.Addr, tie nonce, w wanted) (got given, err error) {
	_ = conn.SetDeadline(time.Time{})
	err = datagram.Ask(ctx, conn, request(own, tie, w), rto, tries, func(packet []byte) (bool, error) {
		var err error
		got, err = read(packet, w, tie)
		return !errors.Is(err, errNotOurs), err
	})
	if errors.Is(err, datagram.ErrNoAnswer) {
		err = fmt.Errorf("%w: %w", ErrNoAnswer, err)
	}
	return got, err
}

func takeBack(conn net.Conn, own netip.Addr, tie nonce, w wanted) {
	_ = conn.SetDeadline(time.Now().Add(rto))
	_, _ = conn.Write(request(own, tie, w))
	_ = conn.Close()
}

// Retransmission (section 8.1.1), begun and given up sooner: somebody waits.
const (
	rto   = 250 * time.Millisecond
	tries = 3
)

// wanted is what a MAP request asks for (section 11.1): strict takes the suggested external port, or none (section 13.2).
type wanted struct {
	protocol         byte
	inside, external uint16
	seconds          uint32
	strict           bool
}

// preferFailure is the option of section 13.2, with no octets of its own.
var preferFailure = []byte{2, 0, 0, 0}

// request is a MAP request (sections 7.1 and 11.1).
func request(own netip.Addr, tie nonce, w wanted) []byte {
	out := make([]byte, header+mapBody)
	out[0], out[1] = version, opMap
	binary.BigEndian.PutUint32(out[4:], w.seconds)
	client := own.As16()
	copy(out[8:], client[:])
	body := out[header:]
	copy(body, tie[:])
	body[12] = w.protocol
	binary.BigEndian.PutUint16(body[16:], w.inside)
	binary.BigEndian.PutUint16(body[18:], w.external)
	none := netip.IPv6Unspecified().As16()
	if own.Unmap().Is4() {
		none = netip.AddrFrom4([4]byte{}).As16()
	}
	copy(body[20:], none[:])
	if w.strict {
		out = append(out, preferFailure...)
	}
	return out
}

var errNotOurs = errors.New("not an answer to this question")

// given is what an answer says was mapped.
type given struct {
	external netip.AddrPort
	epoch    uint32
}

// read parses an answer (sections 7.2 and 11.1). One of another version names the version that the gateway speaks (section 9).
func read(packet []byte, w wanted, tie nonce) (out given, err error) {
	if len(packet) >= 4 && packet[0] < version && packet[1]&0x80 != 0 {
		return out, Refused{1}
	}
	if len(packet) < header || len(packet)%4 != 0 || packet[0] != version || packet[1] != 0x80|opMap {
		return out, errNotOurs
	}
	if packet[3] != 0 {
		return out, Refused{packet[3]}
	}
	if len(packet) < header+mapBody {
		return out, errNotOurs
	}
	body := packet[header:]
	if nonce(body[:12]) != tie || body[12] != w.protocol || binary.BigEndian.Uint16(body[16:]) != w.inside {
		return out, errNotOurs
	}
	out.external = netip.AddrPortFrom(netip.AddrFrom16([16]byte(body[20:36])).Unmap(), binary.BigEndian.Uint16(body[18:]))
	out.epoch = binary.BigEndian.Uint32(packet[8:])
	return out, nil
}
