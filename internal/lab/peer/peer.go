// Package peer holds small stand-ins of the services that devices run: each speaks as much of its protocol as a client sees
// before it signs in.
package peer

import (
	"bufio"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Peer is a service that speaks one kind's protocol. Name is what it calls itself; what it is recognised by follows from
// Name alone, so that it is the same after a restart.
type Peer struct {
	Kind  probe.Kind
	Name  string
	Host  string    // that its certificate is made out to; Name if empty
	Until time.Time // when its certificate expires; in a year if zero
	Keys  []byte    // of a WireGuard server: the public keys of its peers, 32 octets each
}

// patience is how long a peer waits for a client.
const patience = 10 * time.Second

// Serve holds one conversation over TCP, and closes the connection.
func (p Peer) Serve(c net.Conn) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(patience))
	switch p.Kind {
	case probe.KindSSH:
		p.ssh(c)
	case probe.KindTLS:
		_ = p.secure(c).Handshake()
	case probe.KindHTTP:
		p.web(c)
	case probe.KindHTTPS:
		p.web(p.secure(c))
	case probe.KindRDP:
		p.desktop(c)
	case probe.KindVNC:
		p.screen(c)
	case probe.KindRTSP:
		p.stream(c)
	case probe.KindSMTP, probe.KindIMAP, probe.KindPOP3, probe.KindFTP:
		p.lines(c)
	case probe.KindSIP:
		buffer := make([]byte, 4096)
		if n, err := c.Read(buffer); err == nil {
			_, _ = c.Write(p.sip(buffer[:n]))
		}
	case probe.KindMQTT:
		p.broker(c)
	case probe.KindDNS, probe.KindOpenVPN:
		p.framed(c)
	default:
		_, _ = c.Write([]byte(p.Name + " ready\r\n"))
		_, _ = c.Read(make([]byte, 1))
	}
}

// Answer answers one datagram; nil stays silent. WireGuard is a listener of its own: see Listen.
func (p Peer) Answer(packet []byte) []byte {
	switch p.Kind {
	case probe.KindSIP:
		return p.sip(packet)
	case probe.KindDNS:
		return p.names(packet)
	case probe.KindNTP:
		return clock(packet)
	case probe.KindSNMP:
		return p.engine(packet)
	case probe.KindIKE:
		return exchange(packet)
	case probe.KindOpenVPN:
		return session(packet)
	}
	return nil
}

// seed is the private half of what the peer is recognised by.
func (p Peer) seed() [32]byte { return sha256.Sum256([]byte("inkpost lab peer " + p.Name)) }

func (p Peer) key() ed25519.PrivateKey {
	s := p.seed()
	return ed25519.NewKeyFromSeed(s[:])
}

func (p Peer) secure(c net.Conn) *tls.Conn {
	key, host := p.key(), p.Host
	if host == "" {
		host = p.Name
	}
	until := p.Until
	if until.IsZero() {
		until = time.Now().AddDate(1, 0, 0)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: host}, DNSNames: []string{host},
		NotBefore: until.AddDate(-2, 0, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return tls.Server(c, &tls.Config{})
	}
	return tls.Server(c, &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}})
}

// reader reads lines of bounded length.
func reader(c net.Conn) *bufio.Reader { return bufio.NewReaderSize(c, 4096) }
