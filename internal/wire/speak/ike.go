package speak

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/binary"
	"fmt"
)

// The fields of an IKEv2 header (RFC 7296 section 3.1).
const (
	ikeHeader   = 28
	ikeSAInit   = 34
	ikeNotify   = 41
	ikeResponse = 0x20
)

// speakIKE begins a key exchange (IKE_SA_INIT: RFC 7296 section 1.2). A server answers, if only to say that it likes none of
// what was proposed. On port 4500 packets begin with four zero octets (section 2.23, RFC 3948); as a router may translate
// the port, both forms are tried on any port but 500.
func speakIKE(ctx context.Context, t *attempt) (reply, error) {
	question, err := ikeInit()
	if err != nil {
		return reply{}, err
	}
	marked := append(make([]byte, 4), question...)
	next := t.request.Target.Port() == 4500
	t.step("send", "IKE_SA_INIT")
	var words string
	err = t.exchange(ctx, func() []byte {
		now := question
		if next {
			now = marked
		}
		next = t.request.Target.Port() == 4500 || t.request.Target.Port() != 500 && !next
		return now
	}, func(packet []byte) error {
		packet = bytes.TrimPrefix(packet, make([]byte, 4))
		if len(packet) < ikeHeader || packet[17] != 0x20 || packet[18] != ikeSAInit || packet[19]&ikeResponse == 0 {
			return protocolError("it answers " + spoken(packet) + ", which is not IKEv2")
		}
		if !bytes.Equal(packet[:8], question[:8]) {
			return protocolError("the answer is to another exchange")
		}
		words = "IKEv2 responder, accepts the proposal"
		if body := packet[ikeHeader:]; packet[16] == ikeNotify && len(body) >= 8 {
			switch n := binary.BigEndian.Uint16(body[6:]); n {
			case 14:
				words = "IKEv2 responder, chooses no proposal"
			case 17:
				words = "IKEv2 responder, asks for another key group"
			case 16390:
				words = "IKEv2 responder, asks for a cookie: it is busy"
			default:
				words = fmt.Sprintf("IKEv2 responder, notification %d", n)
			}
		}
		return nil
	})
	if err != nil {
		return reply{}, err
	}
	t.step("receive", "%s", words)
	return reply{words: words}, nil
}

// ikeInit makes a request with one proposal of common transforms (RFC 7296 section 3.3), a key of group 19 and a nonce.
func ikeInit() ([]byte, error) {
	key, err := ecdh.P256().GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	transform := func(kind byte, id uint16, attributes ...byte) []byte {
		out := []byte{3, 0, 0, byte(8 + len(attributes)), kind, 0, byte(id >> 8), byte(id)}
		return append(out, attributes...)
	}
	transforms := [][]byte{transform(1, 12, 0x80, 14, 1, 0), transform(1, 12, 0x80, 14, 0, 128), // AES-CBC of 256 and 128 bits
		transform(2, 5), transform(2, 2), transform(3, 12), transform(3, 2), transform(4, 19), transform(4, 14), transform(4, 20)}
	transforms[len(transforms)-1][0] = 0
	all := bytes.Join(transforms, nil)
	proposal := append([]byte{0, 0, byte((8 + len(all)) >> 8), byte(8 + len(all)), 1, 1, 0, byte(len(transforms))}, all...)
	payload := func(next byte, body []byte) []byte {
		return append([]byte{next, 0, byte((4 + len(body)) >> 8), byte(4 + len(body))}, body...)
	}
	nonce := make([]byte, 32)
	_, _ = rand.Read(nonce)
	// security association, then key exchange
	body := payload(34, proposal)
	body = append(body, payload(40, append([]byte{0, 19, 0, 0}, key.PublicKey().Bytes()[1:]...))...) // key exchange, then nonce
	body = append(body, payload(0, nonce)...)
	head := make([]byte, ikeHeader)
	_, _ = rand.Read(head[:8])
	head[16], head[17], head[18], head[19] = 33, 0x20, ikeSAInit, 0x08
	binary.BigEndian.PutUint32(head[24:], uint32(ikeHeader+len(body)))
	return append(head, body...), nil
}
