package speak

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
)

// speakRDP asks for a connection as a remote desktop client does: TPKT (RFC 1006 section 6) around an X.224 connection
// request (RFC 905 section 13.3) that offers TLS and CredSSP. Where the server takes TLS, its key is looked at.
func speakRDP(ctx context.Context, t *attempt) (reply, error) {
	const offer = 0x0b // TLS, CredSSP, CredSSP with early authorisation
	request := []byte{3, 0, 0, 19, 14, 0xe0, 0, 0, 0, 0, 0, 1, 0, 8, 0, offer, 0, 0, 0}
	t.step("send", "X.224 connection request")
	if _, err := t.conn.Write(request); err != nil {
		return reply{}, err
	}
	head := make([]byte, 4)
	if _, err := io.ReadFull(t.conn, head); err != nil {
		return reply{}, err
	}
	size := int(binary.BigEndian.Uint16(head[2:]))
	if head[0] != 3 || size < 11 || size > 512 {
		return reply{}, protocolError("it answers " + spoken(head) + ", which is no TPKT packet")
	}
	body := make([]byte, size-4)
	if _, err := io.ReadFull(t.conn, body); err != nil {
		return reply{}, err
	}
	if body[1]&0xf0 != 0xd0 {
		return reply{}, protocolError(fmt.Sprintf("it answers X.224 packet %#02x instead of a confirmation", body[1]))
	}
	if len(body) < 15 {
		t.step("receive", "connection confirmed, without TLS")
		return reply{words: "remote desktop without TLS", weakness: "remote desktop without TLS can be read and changed on the way"}, nil
	}
	choice := binary.LittleEndian.Uint32(body[11:])
	switch body[7] {
	case 2:
		if choice == 0 {
			t.step("receive", "connection confirmed, without TLS")
			return reply{words: "remote desktop without TLS",
				weakness: "remote desktop without TLS can be read and changed on the way"}, nil
		}
		t.step("receive", "connection confirmed, with TLS")
		_, h, err := t.handshake(ctx, t.conn)
		h.words = "remote desktop over " + h.words
		if choice == 1 {
			h.weakness = "the sign-in page is shown to everybody: network level authentication is off"
		}
		return h, err
	case 3:
		t.step("receive", "negotiation failure %d", choice)
		return reply{words: fmt.Sprintf("remote desktop refuses the offer (reason %d)", choice)}, nil
	}
	return reply{}, protocolError(fmt.Sprintf("it answers a negotiation of type %d", body[7]))
}
