package speak

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"

	"inkpost.example/inkpost/internal/core/probe"
)

// speakMQTT says who connects and reads whether that is taken (CONNECT and CONNACK: MQTT 3.1.1 sections 3.1 and 3.2, MQTT 5 sections 3.1
// and 3.2). A broker that rejects an anonymous client speaks MQTT all the same.
func speakMQTT(_ context.Context, t *attempt) (reply, error) {
	level := byte(4)
	if t.request.Options.Version == "5" {
		level = 5
	}
	id := "inkpost" + rand.Text()[:12]
	body := []byte{0, 4, 'M', 'Q', 'T', 'T', level, 0x02, 0, 10}
	if level == 5 {
		body = append(body, 0) // no properties
	}
	body = binary.BigEndian.AppendUint16(body, uint16(len(id)))
	body = append(body, id...)
	t.step("send", "CONNECT, version %d", level)
	if _, err := t.conn.Write(append([]byte{0x10, byte(len(body))}, body...)); err != nil {
		return reply{}, err
	}
	head := make([]byte, 4)
	if n, err := io.ReadFull(t.conn, head); err != nil {
		if n > 0 {
			return reply{}, protocolError("it answers " + spoken(head[:n]) + ", which is not MQTT")
		}
		return reply{}, err
	}
	if head[0] != 0x20 || head[1] < 2 || level == 4 && head[1] != 2 {
		return reply{}, protocolError("it answers " + spoken(head) + ", which is not MQTT")
	}
	t.step("receive", "CONNACK, code %d", head[3])
	h := reply{words: fmt.Sprintf("MQTT broker, CONNACK with code %d", head[3])}
	traits := map[string]string{"version": fmt.Sprint(level), "code": fmt.Sprint(head[3])}
	if more := int(head[1]) - 2; more > 0 && more < 128 { // properties: what the broker is able to do (MQTT 5 section 3.2.2.3)
		properties := make([]byte, more)
		if _, err := io.ReadFull(t.conn, properties); err == nil {
			sum := sha256.Sum256(properties)
			traits["properties"] = hex.EncodeToString(sum[:4])
		}
	}
	h.fingerprint = probe.TraitPrint(traits)
	if head[3] == 0 {
		h.weakness = "anybody may connect to the broker, without a password"
		_, _ = t.conn.Write([]byte{0xe0, 0})
	}
	return h, nil
}
