package speak

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"io"

	"inkpost.example/inkpost/internal/core/probe"
)

// Opcodes of OpenVPN's control channel, in the upper five bits of the first octet.
const (
	resetFromClient = 7 << 3
	resetFromServer = 8 << 3
)

// speakOpenVPN asks for a session as a client begins one (hard reset, key method 2; the wire protocol is described in
// OpenVPN's own documentation, there is no RFC). The server's reset has to acknowledge ours. A server that wants signed
// packets does not answer: that is the option "guarded".
func speakOpenVPN(ctx context.Context, t *attempt) (reply, error) {
	question := make([]byte, 14)
	question[0] = resetFromClient
	_, _ = rand.Read(question[1:9])
	take := func(packet []byte) error {
		if len(packet) < 14 || packet[0]&0xf8 != resetFromServer {
			return protocolError("it answers " + spoken(packet) + ", which is no reset of an OpenVPN server")
		}
		acknowledged := int(packet[9])
		if acknowledged < 1 || len(packet) < 10+4*acknowledged+8 || !bytes.Equal(packet[10+4*acknowledged:][:8], question[1:9]) {
			return protocolError("the answer is to another session")
		}
		return nil
	}
	var err error
	if t.request.Transport == probe.UDP {
		err = t.ask(ctx, "session reset", question, take)
	} else {
		t.step("send", "session reset")
		if _, err = t.conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(question))), question...)); err == nil {
			size := make([]byte, 2)
			if _, err = io.ReadFull(t.conn, size); err == nil {
				packet := make([]byte, min(2048, binary.BigEndian.Uint16(size)))
				if _, err = io.ReadFull(t.conn, packet); err == nil {
					err = take(packet)
				}
			}
		}
	}
	if err != nil {
		return reply{}, err
	}
	t.step("receive", "the server's reset")
	return reply{words: "OpenVPN server accepts a session"}, nil
}
