package peer

import (
	"bufio"
	"bytes"
	"encoding/asn1"
	"encoding/binary"
	"fmt"
	"net/textproto"
	"strings"

	"github.com/miekg/dns"
)

func (p Peer) sip(packet []byte) []byte {
	in := textproto.NewReader(bufio.NewReader(bytes.NewReader(packet)))
	line, err := in.ReadLine()
	if err != nil || !strings.HasPrefix(line, "OPTIONS ") {
		return nil
	}
	h, err := in.ReadMIMEHeader()
	if err != nil {
		return nil
	}
	return fmt.Appendf(nil, "SIP/2.0 200 OK\r\nVia: %s\r\nFrom: %s\r\nTo: %s;tag=lab\r\nCall-ID: %s\r\nCSeq: %s\r\nServer: "+
		"%s\r\nContent-Length: 0\r\n\r\n",
		h.Get("Via"), h.Get("From"), h.Get("To"), h.Get("Call-Id"), h.Get("Cseq"), p.Name)
}

func (p Peer) names(packet []byte) []byte {
	var q dns.Msg
	if q.Unpack(packet) != nil || q.Response {
		return nil
	}
	a := new(dns.Msg)
	a.SetRcode(&q, dns.RcodeRefused)
	out, _ := a.Pack()
	return out
}

func clock(packet []byte) []byte {
	if len(packet) < 48 || packet[0]&7 != 3 {
		return nil
	}
	out := make([]byte, 48)
	out[0], out[1] = 4<<3|4, 2
	copy(out[24:32], packet[40:48])
	return out
}

// engine answers discovery with a report: the question with another engine ID, flags of a report, and the PDU's tag changed.
func (p Peer) engine(packet []byte) []byte {
	var m struct {
		Version int
		Header  struct {
			ID, MaxSize int
			Flags       []byte
			Model       int
		}
		Security []byte
		Scoped   asn1.RawValue
	}
	if _, err := asn1.Unmarshal(packet, &m); err != nil || m.Version != 3 {
		return nil
	}
	s := p.seed()
	engine := append([]byte{0x80, 0, 0, 0, 4}, s[:8]...)
	security, err := asn1.Marshal(struct {
		Engine       []byte
		Boots, Time  int
		User, Au, Pr []byte
	}{Engine: engine, Boots: 1, Time: 60})
	if err != nil {
		return nil
	}
	m.Security, m.Header.Flags = security, []byte{0}
	out, _ := asn1.Marshal(m)
	return out
}

// exchange answers the beginning of a key exchange: none of the proposals is to our liking.
func exchange(packet []byte) []byte {
	marked := bytes.HasPrefix(packet, make([]byte, 4))
	packet = bytes.TrimPrefix(packet, make([]byte, 4))
	if len(packet) < 28 || packet[18] != 34 {
		return nil
	}
	out := make([]byte, 36)
	copy(out, packet[:8])
	out[16], out[17], out[18], out[19] = 41, 0x20, 34, 0x20
	binary.BigEndian.PutUint32(out[24:], 36)
	copy(out[28:], []byte{0, 0, 0, 8, 0, 0, 0, 14})
	if marked {
		out = append(make([]byte, 4), out...)
	}
	return out
}

func session(packet []byte) []byte {
	if len(packet) < 14 || packet[0]>>3 != 7 {
		return nil
	}
	out := append([]byte{8 << 3}, bytes.Repeat([]byte{7}, 8)...)
	out = append(out, 1, 0, 0, 0, 0)
	out = append(out, packet[1:9]...)
	return append(out, 0, 0, 0, 0)
}
