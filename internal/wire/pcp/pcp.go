// Package pcp asks a gateway for its external address by the Port Control Protocol (RFC 6887).
package pcp

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/wire/datagram"
)

// Port is the gateway's (RFC 6887 section 19).
const Port = 5351

// ErrNoAnswer reports a gateway that does not speak the protocol.
var ErrNoAnswer = errors.New("the gateway does not answer PCP")

// results are the result codes of section 7.4.
var results = map[byte]string{1: "the gateway speaks another version", 2: "it is not allowed", 3: "the request is malformed", 4: "it does not know the operation",
	5: "it does not know an option", 6: "an option is malformed", 7: "the network is failing", 8: "it is out of resources", 9: "it does not map this protocol",
	10: "the quota is used up", 11: "the external address cannot be given", 12: "another device translates between us and the gateway", 13: "too many peers"}

// Refused reports a gateway that answers and maps nothing. AddressMismatch says that something translates before it.
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
	lifetime    = 120 // seconds: the least that gateways give
	header      = 24
	mapBody     = 36
)

// nonce ties an answer to its question (section 11.2).
type nonce [12]byte

// External maps the port of its own socket for two minutes, which is how PCP tells the external address, and takes the mapping
// back. Nothing of anybody else's is opened. Network is "udp4" or "udp6".
func External(ctx context.Context, dial datagram.Dial, network string, gateway netip.AddrPort) (external netip.Addr, epoch uint32, err error) {
	conn, err := dial(ctx, network, gateway.String())
	if err != nil {
		return external, 0, err
	}
	defer conn.Close()
	own, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return external, 0, err
	}
	var tie nonce
	_, _ = rand.Read(tie[:]) // never fails
	err = datagram.Ask(ctx, conn, request(own, tie, lifetime), rto, tries, func(packet []byte) (bool, error) {
		var err error
		external, epoch, err = read(packet, own.Port(), tie)
		return !errors.Is(err, errNotOurs), err
	})
	switch {
	case err == nil:
		_, _ = conn.Write(request(own, tie, 0)) // taken back; where that is lost, it ends by itself
	case errors.Is(err, datagram.ErrNoAnswer):
		err = fmt.Errorf("%w: %w", ErrNoAnswer, err)
	}
	return external, epoch, err
}

// Retransmission (section 8.1.1), begun and given up sooner: somebody waits.
const (
	rto   = 250 * time.Millisecond
	tries = 4
)

// request is a MAP request for our own port (sections 7.1 and 11.1).
func request(own netip.AddrPort, tie nonce, seconds uint32) []byte {
	out := make([]byte, header+mapBody)
	out[0], out[1] = version, opMap
	binary.BigEndian.PutUint32(out[4:], seconds)
	client := own.Addr().As16()
	copy(out[8:], client[:])
	body := out[header:]
	copy(body, tie[:])
	body[12] = protocolUDP
	binary.BigEndian.PutUint16(body[16:], own.Port())
	none := netip.IPv6Unspecified().As16()
	if own.Addr().Unmap().Is4() {
		none = netip.AddrFrom4([4]byte{}).As16()
	}
	copy(body[20:], none[:])
	return out
}

var errNotOurs = errors.New("not an answer to this question")

// read takes an answer apart (sections 7.2 and 11.1). One that is not version 2 tells which the gateway speaks (section 9).
func read(packet []byte, port uint16, tie nonce) (external netip.Addr, epoch uint32, err error) {
	if len(packet) >= 4 && packet[0] < version && packet[1]&0x80 != 0 {
		return external, 0, Refused{1}
	}
	if len(packet) < header || len(packet)%4 != 0 || packet[0] != version || packet[1] != 0x80|opMap {
		return external, 0, errNotOurs
	}
	if packet[3] != 0 {
		return external, 0, Refused{packet[3]}
	}
	if len(packet) < header+mapBody {
		return external, 0, errNotOurs
	}
	body := packet[header:]
	if nonce(body[:12]) != tie || body[12] != protocolUDP || binary.BigEndian.Uint16(body[16:]) != port {
		return external, 0, errNotOurs
	}
	return netip.AddrFrom16([16]byte(body[20:36])).Unmap(), binary.BigEndian.Uint32(packet[8:]), nil
}
