package speak

import (
	"context"
	"errors"
	"net"
	"sync"

	"golang.org/x/crypto/ssh"
)

var errSeenEnough = errors.New("the host key is all that is asked for")

// speakSSH exchanges versions and keys (RFC 4253 sections 4 and 7) and leaves before it would have to say who it is. The host
// key is asked for in one order of algorithms always: a server has several, and its fingerprint must not depend on chance.
func speakSSH(_ context.Context, t *attempt) (reply, error) {
	var h reply
	var said banner
	said.Conn = t.conn
	config := &ssh.ClientConfig{User: "probe", ClientVersion: "SSH-2.0-InkPost", HostKeyAlgorithms: []string{ssh.KeyAlgoED25519,
		ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSA},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			h.fingerprint = "key " + ssh.FingerprintSHA256(key)
			t.step("host key", "%s %s", key.Type(), h.fingerprint)
			return errSeenEnough
		}}
	_, _, _, err := ssh.NewClientConn(&said, t.request.Target.String(), config)
	line := said.first()
	if line != nil {
		h.words = spoken(line)
		t.step("receive", "%s", h.words)
	}
	if h.fingerprint != "" {
		return h, nil
	}
	if line != nil && !isSSH(line) {
		return h, protocolError("it says " + h.words + ", which is not SSH")
	}
	return h, err
}

func isSSH(line []byte) bool { return len(line) >= 4 && string(line[:4]) == "SSH-" }

// banner keeps the first of what is read.
type banner struct {
	net.Conn
	mu   sync.Mutex
	line []byte
}

func (b *banner) first() []byte {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.line
}

func (b *banner) Read(p []byte) (int, error) {
	n, err := b.Conn.Read(p)
	b.mu.Lock()
	defer b.mu.Unlock()
	if n > 0 && len(b.line) < 64 && (len(b.line) == 0 || b.line[len(b.line)-1] != '\n') {
		b.line = append(b.line, p[:n]...)
	}
	return n, err
}
