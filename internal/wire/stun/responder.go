package stun

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync/atomic"

	"github.com/pion/stun/v3"
)

// Responder answers Binding requests on one UDP port. Its answers are at most twice as long as the questions, and it keeps
// nothing about who asks.
type Responder struct {
	conn *net.UDPConn
	// Password returns the password of a user, "" for none. A request with a credential that is wrong is refused (401).
	Password func(username string) string
	// Heard is called for a request whose credential is right.
	Heard func(username string, from netip.Addr)

	answered, refused atomic.Uint64
}

// Listen opens the port; the responder answers once Serve runs. Error: the port cannot be opened.
func Listen(address string) (*Responder, error) {
	c, err := net.ListenPacket("udp", address)
	if err != nil {
		return nil, fmt.Errorf("STUN: %w", err)
	}
	return &Responder{conn: c.(*net.UDPConn)}, nil
}

// Addr is where the responder answers.
func (r *Responder) Addr() string { return r.conn.LocalAddr().String() }

// Close closes the port of a responder that is not to Serve.
func (r *Responder) Close() { _ = r.conn.Close() }

// Counts returns how many questions were answered and how many refused.
func (r *Responder) Counts() (answered, refused uint64) { return r.answered.Load(), r.refused.Load() }

// Serve answers until ctx ends. Error: the socket was closed by somebody else.
func (r *Responder) Serve(ctx context.Context) error {
	defer context.AfterFunc(ctx, func() { _ = r.conn.Close() })()
	buffer, control := make([]byte, 1500), make([]byte, 128)
	asked := newAsked(r.conn)
	for {
		n, long, _, from, err := r.conn.ReadMsgUDPAddrPort(buffer, control)
		switch {
		case errors.Is(err, net.ErrClosed):
			if ctx.Err() != nil {
				return nil
			}
			return errors.New("the STUN socket was closed")
		case err != nil:
			continue // such as an ICMP error about an earlier answer
		}
		if reply := r.reply(buffer[:n], from); reply != nil {
			_, _, _ = r.conn.WriteMsgUDPAddrPort(reply, asked.answer(control[:long]), from)
		}
	}
}

// reply returns the answer to one packet, nil for none: what is no Binding request is not answered.
func (r *Responder) reply(packet []byte, from netip.AddrPort) []byte {
	if !stun.IsMessage(packet) {
		return nil
	}
	m := &stun.Message{Raw: append([]byte(nil), packet...)}
	if m.Decode() != nil || m.Type != stun.BindingRequest || m.Contains(stun.AttrFingerprint) && stun.Fingerprint.Check(m) != nil {
		return nil
	}
	id := stun.NewTransactionIDSetter(m.TransactionID)
	if unknown := misunderstood(m); len(unknown) > 0 {
		if len(unknown) > 4 {
			unknown = unknown[:4] // the answer does not grow with the question
		}
		return built(id, stun.BindingError, stun.CodeUnknownAttribute, stun.UnknownAttributes(unknown), stun.Fingerprint)
	}
	mapped := &stun.XORMappedAddress{IP: from.Addr().Unmap().AsSlice(), Port: int(from.Port())}
	var user stun.Username
	if user.GetFrom(m) != nil {
		r.answered.Add(1)
		return built(id, stun.BindingSuccess, mapped, stun.Fingerprint)
	}
	password := ""
	if r.Password != nil {
		password = r.Password(user.String())
	}
	integrity := stun.NewShortTermIntegrity(password)
	if password == "" || integrity.Check(m) != nil {
		r.refused.Add(1)
		return built(id, stun.BindingError, stun.CodeUnauthorized, stun.Fingerprint)
	}
	r.answered.Add(1)
	if r.Heard != nil {
		r.Heard(user.String(), from.Addr().Unmap())
	}
	return built(id, stun.BindingSuccess, mapped, integrity, stun.Fingerprint)
}

func built(setters ...stun.Setter) []byte {
	m, err := stun.Build(setters...)
	if err != nil {
		return nil
	}
	return m.Raw
}
