package speak

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"net"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Certificate is what a service showed of itself.
type Certificate struct {
	Names   []string  // that it is made out to
	Expires time.Time // zero if none was shown
	Problem string    // that it has expired, or is made out to another name; "" if neither
	// Misnamed says that it is made out to another name. That of a device which signs its own counts only where it is checked.
	Misnamed bool
	// Vouched says that somebody else has signed it, for the name that was asked for, and that it is valid: its key may be a new one, but
	// it is whose name it is. Whoever signed is not looked at: the point is not to take a neighbour for the device, not to meet an
	// attacker.
	Vouched bool
}

// speakTLS shakes hands (RFC 8446; RFC 5246 for older devices) and looks at the certificate (RFC 5280).
func speakTLS(ctx context.Context, t *attempt) (reply, error) {
	_, h, err := t.handshake(ctx, t.conn)
	return h, err
}

// handshake begins TLS on a connection. No certificate is turned down for who signed it: at a customer's site most sign themselves, and the
// pinned key says more. Old versions and ciphers are accepted, and reported.
func (t *attempt) handshake(ctx context.Context, conn net.Conn) (*tls.Conn, reply, error) {
	config := &tls.Config{InsecureSkipVerify: true, ServerName: t.request.Name, MinVersion: tls.VersionTLS10}
	for _, suites := range [][]*tls.CipherSuite{tls.CipherSuites(), tls.InsecureCipherSuites()} {
		for _, s := range suites {
			config.CipherSuites = append(config.CipherSuites, s.ID)
		}
	}
	c := tls.Client(conn, config)
	if err := c.HandshakeContext(ctx); err != nil {
		return nil, reply{}, fmt.Errorf("TLS: %w", err)
	}
	state := c.ConnectionState()
	version := tls.VersionName(state.Version)
	t.step("TLS", "%s, %s", version, tls.CipherSuiteName(state.CipherSuite))
	h := reply{words: version}
	if state.Version < tls.VersionTLS12 {
		h.weakness = version + " is out of date"
	}
	if len(state.PeerCertificates) == 0 {
		return c, h, protocolError("no certificate was shown")
	}
	cert := state.PeerCertificates[0]
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	h.fingerprint = probe.KeyPrint(base64.StdEncoding.EncodeToString(sum[:]))
	h.certificate = Certificate{Names: cert.DNSNames, Expires: cert.NotAfter.UTC()}
	if len(h.certificate.Names) == 0 && cert.Subject.CommonName != "" {
		h.certificate.Names = []string{cert.Subject.CommonName}
	}
	signed := !bytes.Equal(cert.RawIssuer, cert.RawSubject) || t.request.Options.Certificate == "checked"
	h.certificate.Misnamed = signed && t.request.Name != "" && cert.VerifyHostname(t.request.Name) != nil
	now := time.Now()
	switch {
	case now.After(cert.NotAfter):
		h.certificate.Problem = "the certificate expired on " + cert.NotAfter.UTC().Format(time.DateOnly)
	case now.Before(cert.NotBefore):
		h.certificate.Problem = "the certificate is valid from " + cert.NotBefore.UTC().Format(time.DateOnly) + " only"
	case t.request.Name != "" && cert.VerifyHostname(t.request.Name) != nil:
		h.certificate.Problem = fmt.Sprintf("the certificate is made out to %s, not to %s", strings.Join(h.certificate.Names, ", "),
			t.request.Name)
	}
	h.certificate.Vouched = !bytes.Equal(cert.RawIssuer, cert.RawSubject) && t.request.Name != "" && h.certificate.Problem == ""
	t.step("certificate", "for %s, until %s, %s", strings.Join(h.certificate.Names, ", "), cert.NotAfter.UTC().Format(time.DateOnly),
		h.fingerprint)
	if h.certificate.Problem != "" {
		t.step("certificate", "%s", h.certificate.Problem)
		if t.request.Options.Certificate == "checked" {
			return c, h, protocolError(h.certificate.Problem)
		}
	}
	return c, h, nil
}
