// Package stun asks for the address that a UDP packet arrives from, and answers the question (RFC 8489, Binding).
package stun

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/pion/stun/v3"

	"inkpost.example/inkpost/internal/wire/datagram"
)

// Credential is a short-term credential (RFC 8489 section 9.1). The zero one asks without: the answer then proves nothing.
type Credential struct{ Username, Password string }

// ErrRefused reports a credential that the server does not take.
var ErrRefused = errors.New("the STUN server refuses the credential")

// Retransmission (RFC 8489 section 6.2.1): the first answer is waited for rto, each further one twice as long.
const (
	rto   = 500 * time.Millisecond
	tries = 4
)

// Ask returns the address and port that the server sees. Network is "udp4" or "udp6". An answer counts only where it comes from the server,
// has the request's transaction ID, an XOR-MAPPED-ADDRESS of the same family, no attribute that has to be understood and is not, and, where
// a credential was given, that one's integrity. Everything else is passed over. Errors: ErrRefused, datagram.ErrNoAnswer, those of the
// network.
func Ask(ctx context.Context, dial datagram.Dial, network, server string, c Credential) (netip.AddrPort, error) {
	conn, err := dial(ctx, network, server)
	if err != nil {
		return netip.AddrPort{}, err
	}
	defer conn.Close()
	setters := []stun.Setter{stun.TransactionID, stun.BindingRequest}
	if c.Username != "" {
		setters = append(setters, stun.NewUsername(c.Username), stun.NewShortTermIntegrity(c.Password))
	}
	request, err := stun.Build(append(setters, stun.Fingerprint)...)
	if err != nil {
		return netip.AddrPort{}, err
	}
	var at netip.AddrPort
	err = datagram.Ask(ctx, conn, request.Raw, rto, tries, func(packet []byte) (bool, error) {
		var err error
		at, err = read(packet, request.TransactionID, c, network == "udp6")
		return err == nil || errors.Is(err, ErrRefused), err
	})
	return at, err
}

var errNotOurs = errors.New("not an answer to this question")

// read parses an answer.
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
		case stun.AttrMappedAddress, stun.AttrXORMappedAddress, stun.AttrUsername, stun.AttrMessageIntegrity, stun.AttrErrorCode,
			stun.AttrUnknownAttributes, stun.AttrRealm, stun.AttrNonce:
		default:
			if a.Type.Required() {
				out = append(out, a.Type)
			}
		}
	}
	return out
}
