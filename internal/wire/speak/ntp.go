package speak

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
)

// speakNTP asks for the time (RFC 5905 section 7.3, client mode) and takes the answer that carries our random time stamp back
// (RFC 8633 section 5; the stamp need not be the time).
func speakNTP(ctx context.Context, t *attempt) (reply, error) {
	question := make([]byte, 48)
	question[0] = 4<<3 | 3
	_, _ = rand.Read(question[40:])
	var stratum byte
	var kiss string
	err := t.ask(ctx, "client packet, version 4", question, func(packet []byte) error {
		if len(packet) < 48 || packet[0]&7 != 4 {
			return protocolError("it answers " + spoken(packet) + ", which is no answer of a time server")
		}
		if !bytes.Equal(packet[24:32], question[40:]) {
			return protocolError("the answer is to another question")
		}
		stratum, kiss = packet[1], spoken(packet[12:16])
		return nil
	})
	if err != nil {
		return reply{}, err
	}
	words := fmt.Sprintf("time server of stratum %d", stratum)
	if stratum == 0 {
		words = "time server that asks to be left alone: " + kiss
	}
	t.step("receive", "%s", words)
	return reply{words: words}, nil
}
