// Package natpmp asks a gateway for its external IPv4 address by NAT-PMP (RFC 6886), and is notified when that changes.
package natpmp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/wire/datagram"
)

// Port is the gateway's, and NoticePort the one on which it announces changes (RFC 6886 section 3.2.1), by multicast to Group.
const (
	Port       = 5351
	NoticePort = 5350
)

// Group is where notices go to.
var Group = netip.MustParseAddr("224.0.0.1")

// ErrNoAnswer reports a gateway that does not speak the protocol.
var ErrNoAnswer = errors.New("the gateway does not answer NAT-PMP")

// results are the result codes of section 3.5.
var results = map[uint16]string{1: "it does not speak version 0", 2: "it is switched off in the router",
	3: "the router has no address itself yet",
	4: "it is out of resources", 5: "it does not know the request"}

// Refused reports a gateway that answers and gives no address.
type Refused struct{ Code uint16 }

func (e Refused) Error() string {
	if words, ok := results[e.Code]; ok {
		return "NAT-PMP: " + words
	}
	return fmt.Sprintf("NAT-PMP: result %d", e.Code)
}

// External asks for the external address. Epoch is the gateway's uptime in seconds (section 3.6): if it goes back, the gateway has
// restarted. Errors: ErrNoAnswer, Refused, those of the network.
func External(ctx context.Context, dial datagram.Dial, gateway netip.AddrPort) (external netip.Addr, epoch uint32, err error) {
	err = ask(ctx, dial, gateway, []byte{0, 0}, func(packet []byte) (err error) {
		external, epoch, err = Read(packet)
		return err
	})
	return external, epoch, err
}

func ask(ctx context.Context, dial datagram.Dial, gateway netip.AddrPort, question []byte, take func(packet []byte) error) error {
	conn, err := dial(ctx, "udp4", gateway.String())
	if err != nil {
		return err
	}
	defer conn.Close()
	err = datagram.Ask(ctx, conn, question, rto, tries, func(packet []byte) (bool, error) {
		err := take(packet)
		return !errors.Is(err, errNotOne), err
	})
	if errors.Is(err, datagram.ErrNoAnswer) {
		err = fmt.Errorf("%w: %w", ErrNoAnswer, err)
	}
	return err
}

// Retransmission (section 3.1), given up sooner: somebody waits.
const (
	rto   = 250 * time.Millisecond
	tries = 3
)

var errNotOne = errors.New("not an answer of NAT-PMP")

// Read takes an answer, or a notice (section 3.2): version 0, operation 128, a result, the epoch and the address. Errors: Refused, or one
// for a packet of another kind.
func Read(packet []byte) (external netip.Addr, epoch uint32, err error) {
	if len(packet) < 4 || packet[0] != 0 || packet[1] != 128 {
		return external, 0, errNotOne
	}
	if code := binary.BigEndian.Uint16(packet[2:]); code != 0 {
		return external, 0, Refused{code}
	}
	if len(packet) != 12 {
		return external, 0, errNotOne
	}
	return netip.AddrFrom4([4]byte(packet[8:12])), binary.BigEndian.Uint32(packet[4:]), nil
}

var operations = map[string]byte{"udp": 1, "tcp": 2}

// ErrTaken reports an external port that the gateway does not give.
var ErrTaken = errors.New("NAT-PMP: the port is not given")

// Map asks for a mapping of an external port to a port of this machine, for a length of time in whole seconds (section 3.3). Transport is
// tcp or udp. Where the gateway gives another port, that is taken back. Errors: ErrTaken, ErrNoAnswer, Refused, those of the network.
func Map(ctx context.Context, dial datagram.Dial, gateway netip.AddrPort, transport string, external, inside uint16,
	lease time.Duration) error {
	op, ok := operations[transport]
	if !ok {
		return fmt.Errorf("%q cannot be mapped; tcp and udp can", transport)
	}
	var given uint16
	err := ask(ctx, dial, gateway, mapRequest(op, external, inside, uint32(lease.Seconds())), func(packet []byte) (err error) {
		given, err = readMap(packet, op, inside)
		return err
	})
	if err == nil && given != external {
		return errors.Join(ErrTaken, Unmap(ctx, dial, gateway, transport, inside))
	}
	return err
}

// Unmap takes back what Map got for a port of this machine (section 3.4). Errors: those of Map.
func Unmap(ctx context.Context, dial datagram.Dial, gateway netip.AddrPort, transport string, inside uint16) error {
	op := operations[transport]
	return ask(ctx, dial, gateway, mapRequest(op, 0, inside, 0), func(packet []byte) error {
		_, err := readMap(packet, op, inside)
		return err
	})
}

func mapRequest(op byte, external, inside uint16, seconds uint32) []byte {
	out := make([]byte, 12)
	out[1] = op
	binary.BigEndian.PutUint16(out[4:], inside)
	binary.BigEndian.PutUint16(out[6:], external)
	binary.BigEndian.PutUint32(out[8:], seconds)
	return out
}

// readMap takes an answer to a request for a mapping.
func readMap(packet []byte, op byte, inside uint16) (external uint16, err error) {
	if len(packet) < 4 || packet[0] != 0 || packet[1] != 128+op {
		return 0, errNotOne
	}
	if code := binary.BigEndian.Uint16(packet[2:]); code != 0 {
		return 0, Refused{code}
	}
	if len(packet) != 16 || binary.BigEndian.Uint16(packet[8:]) != inside {
		return 0, errNotOne
	}
	return binary.BigEndian.Uint16(packet[10:]), nil
}
