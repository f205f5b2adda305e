// Package stun asks for the address that a UDP packet arrives from, and answers the question (RFC 8489, Binding).
package stun

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/pion/stun/v3"
)

// Dial opens a UDP "connection", so that only the server's own packets come back.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Credential is a short-term credential (RFC 8489 section 9.1). The zero one asks without: the answer then proves nothing.
type Credential struct{ Username, Password string }

// Errors of Ask.
var (
	ErrNoAnswer = errors.New("no answer")
	ErrRefused  = errors.New("the STUN server refuses the credential")
)

// Retransmission (RFC 8489 section 6.2.1): the first answer is waited for rto, each further one twice as long.
const (
	rto     = 500 * time.Millisecond
	tries   = 4
	longest = 548 // octets of an answer; ours has fewer than 120 (RFC 8489 section 6.1)
)

// Ask gives the address and port that the server sees. Network is "udp4" or "udp6". An answer counts only where it comes from
// the server, has the request's transaction ID, an XOR-MAPPED-ADDRESS of the same family, no attribute that has to be
// understood and is not, and, where a credential was given, that one's integrity. Everything else is passed over.
func Ask(ctx context.Context, dial Dial, network, server string, c Credential) (netip.AddrPort, error) {
	conn, err := dial(ctx, network, server)
	if err != nil {
		return netip.AddrPort{}, err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })()
	setters := []stun.Setter{stun.TransactionID, stun.BindingRequest}
	if c.Username != "" {
		setters = append(setters, stun.NewUsername(c.Username), stun.NewShortTermIntegrity(c.Password))
	}
	request, err := stun.Build(append(setters, stun.Fingerprint)...)
	if err != nil {
		return netip.AddrPort{}, err
	}
	buffer, wait := make([]byte, longest), rto
	for range tries {
		if _, err := conn.Write(request.Raw); err != nil {
			return netip.AddrPort{}, err
		}
		_ = conn.SetReadDeadline(time.Now().Add(wait))
		if ctx.Err() != nil {
			return netip.AddrPort{}, ctx.Err()
		}
		for {
			n, err := conn.Read(buffer)
			var timeout net.Error
			if errors.As(err, &timeout) && timeout.Timeout() {
				break
			}
			if err != nil {
				return netip.AddrPort{}, fmt.Errorf("%w: %w", ErrNoAnswer, err)
			}
			at, err := read(buffer[:n], request.TransactionID, c, network == "udp6")
			if errors.Is(err, ErrRefused) {
				return netip.AddrPort{}, err
			}
			if err == nil {
				return at, nil
			}
		}
		if ctx.Err() != nil {
			break
		}
		wait *= 2
	}
	return netip.AddrPort{}, ErrNoAnswer
}

var errNotOurs = errors.New("not an answer to this question")

// read takes an answer apart.
func read(packet []byte, id [stun.TransactionIDSize]byte, c Credential, six bool) (netip.AddrPort, error) {
	if !stun.IsMessage(packet) {
		return netip.AddrPort{}, errNotOurs
	}
	m := &stun.Message{Raw: append([]byte(nil), packet...)}
	if err := m.Decode(); err != nil || m.TransactionID != id || m.Type.Method != stun.MethodBinding {
		return netip.AddrPort{}, errNotOurs
	}
	if m.Contains(stun.AttrFingerprint) && stun.Fingerprint.Check(m) != nil {
		return netip.AddrPort{}, errNotOurs
	}
	if m.Type.Class == stun.ClassErrorResponse {
		var code stun.ErrorCodeAttribute
		if code.GetFrom(m) == nil && code.Code == stun.CodeUnauthorized && c.Username != "" {
			return netip.AddrPort{}, ErrRefused
		}
		return netip.AddrPort{}, errNotOurs
	}
	if m.Type.Class != stun.ClassSuccessResponse || len(misunderstood(m)) > 0 {
		return netip.AddrPort{}, errNotOurs
	}
	if c.Username != "" && stun.NewShortTermIntegrity(c.Password).Check(m) != nil {
		return netip.AddrPort{}, errNotOurs
	}
	var mapped stun.XORMappedAddress
	if err := mapped.GetFrom(m); err != nil {
		return netip.AddrPort{}, errNotOurs
	}
	a, ok := netip.AddrFromSlice(mapped.IP)
	if !ok || a.Unmap().Is4() == six || mapped.Port < 1 || mapped.Port > 65535 {
		return netip.AddrPort{}, errNotOurs
	}
	return netip.AddrPortFrom(a.Unmap(), uint16(mapped.Port)), nil
}

// misunderstood lists the attributes that have to be understood (below 0x8000, RFC 8489 section 14) and are not.
func misunderstood(m *stun.Message) []stun.AttrType {
	var out []stun.AttrType
	for _, a := range m.Attributes {
		switch a.Type {
		case stun.AttrMappedAddress, stun.AttrXORMappedAddress, stun.AttrUsername, stun.AttrMessageIntegrity, stun.AttrErrorCode, stun.AttrUnknownAttributes, stun.AttrRealm, stun.AttrNonce:
		default:
			if a.Type.Required() {
				out = append(out, a.Type)
			}
		}
	}
	return out
}
