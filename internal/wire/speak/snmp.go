package speak

import (
	"context"
	"encoding/asn1"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
)

// The messages of SNMPv3 (RFC 3412 section 6) with the user-based security model (RFC 3414 section 2.4).
type snmpMessage struct {
	Version  int
	Header   snmpHeader
	Security []byte
	Scoped   snmpScoped
}

type snmpHeader struct {
	ID      int
	MaxSize int
	Flags   []byte
	Model   int
}

type snmpSecurity struct {
	Engine []byte
	Boots  int
	Time   int
	User   []byte
	Auth   []byte
	Priv   []byte
}

type snmpScoped struct {
	Engine []byte
	Name   []byte
	PDU    asn1.RawValue
}

type snmpPDU struct {
	ID       int
	Status   int
	Index    int
	Bindings []asn1.RawValue
}

// speakSNMP discovers the engine (RFC 3414 section 4): a request with no engine ID is answered with a report that holds it,
// to whoever asks. The engine ID is what the device is recognised by.
func speakSNMP(ctx context.Context, t *attempt) (reply, error) {
	id := int(rand.Int32N(1 << 30))
	pdu, err := asn1.MarshalWithParams(snmpPDU{ID: id, Bindings: []asn1.RawValue{}}, "tag:0")
	if err != nil {
		return reply{}, err
	}
	security, err := asn1.Marshal(snmpSecurity{})
	if err != nil {
		return reply{}, err
	}
	question, err := asn1.Marshal(snmpMessage{Version: 3, Header: snmpHeader{ID: id, MaxSize: 65507, Flags: []byte{4}, Model: 3},
		Security: security,
		Scoped:   snmpScoped{PDU: asn1.RawValue{FullBytes: pdu}}})
	if err != nil {
		return reply{}, err
	}
	var engine []byte
	err = t.ask(ctx, "engine discovery", question, func(packet []byte) error {
		var m snmpMessage
		var s snmpSecurity
		if _, err := asn1.Unmarshal(packet, &m); err != nil || m.Version != 3 {
			return protocolError("it answers " + spoken(packet) + ", which is not SNMPv3")
		}
		if m.Header.ID != id {
			return protocolError("the answer is to another question")
		}
		if _, err := asn1.Unmarshal(m.Security, &s); err != nil || len(s.Engine) < 5 || len(s.Engine) > 32 {
			return protocolError("the answer holds no engine ID")
		}
		engine = s.Engine
		return nil
	})
	if err != nil {
		return reply{}, err
	}
	name := hex.EncodeToString(engine)
	t.step("receive", "report of engine %s", name)
	return reply{words: fmt.Sprintf("SNMPv3 engine %s", name), fingerprint: "engine " + name}, nil
}
