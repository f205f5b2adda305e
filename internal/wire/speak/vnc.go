package speak

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"regexp"
	"slices"

	"inkpost.example/inkpost/internal/core/probe"
)

var rfbVersion = regexp.MustCompile(`^RFB (\d{3})\.(\d{3})\n$`)

// speakVNC exchanges versions and reads the security types (RFC 6143 sections 7.1.1 and 7.1.2).
func speakVNC(_ context.Context, t *attempt) (reply, error) {
	version := make([]byte, 12)
	if n, err := io.ReadFull(t.conn, version); err != nil {
		if n > 0 {
			return reply{}, protocolError("it says " + spoken(version[:n]) + ", which is not RFB")
		}
		return reply{}, err
	}
	m := rfbVersion.FindSubmatch(version)
	if m == nil {
		return reply{}, protocolError("it says " + spoken(version) + ", which is not RFB")
	}
	t.step("receive", "%s", spoken(version))
	old := string(m[1]) == "003" && string(m[2]) < "007"
	answer := []byte("RFB 003.008\n")
	if old || string(m[2]) == "007" && string(m[1]) == "003" {
		answer = version
	}
	t.step("send", "%s", spoken(answer))
	if _, err := t.conn.Write(answer); err != nil {
		return reply{}, err
	}
	var types []byte
	if old {
		one := make([]byte, 4)
		if _, err := io.ReadFull(t.conn, one); err != nil {
			return reply{}, err
		}
		if n := binary.BigEndian.Uint32(one); n > 0 && n < 256 {
			types = []byte{byte(n)}
		}
	} else {
		count := make([]byte, 1)
		if _, err := io.ReadFull(t.conn, count); err != nil {
			return reply{}, err
		}
		types = make([]byte, count[0])
		if _, err := io.ReadFull(t.conn, types); err != nil {
			return reply{}, err
		}
	}
	slices.Sort(types)
	h := reply{words: fmt.Sprintf("%s, security types %v", spoken(version), types)}
	h.fingerprint = probe.BannerPrint(h.words)
	if slices.Contains(types, 1) {
		h.weakness = "the screen is shared without a password"
	}
	t.step("receive", "security types %v", types)
	return h, nil
}
