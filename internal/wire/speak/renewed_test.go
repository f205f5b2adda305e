package speak_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/speak"
)

// shown serves TLS with a certificate for a name until a moment, signed by an authority or by itself.
func shown(t *testing.T, name string, until time.Time, issued bool) netip.AddrPort {
	t.Helper()
	newKey := func() *ecdsa.PrivateKey {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return key
	}
	key, signer := newKey(), newKey()
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: until.AddDate(0, -3, 0), NotAfter: until}
	above := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Kettle Authority"}, IsCA: true,
		BasicConstraintsValid: true, NotBefore: until.AddDate(-1, 0, 0), NotAfter: until.AddDate(1, 0, 0)}
	if !issued {
		above, signer = leaf, key
	}
	der, err := x509.CreateCertificate(rand.Reader, leaf, above, key.Public(), signer)
	require.NoError(t, err)
	l, err := tls.Listen("tcp", "127.0.0.9:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_ = c.(*tls.Conn).Handshake()
				_, _ = c.Read(make([]byte, 1))
			}()
		}
	}()
	return netip.AddrPortFrom(netip.MustParseAddr("127.0.0.9"), uint16(l.Addr().(*net.TCPAddr).Port))
}

func TestAKeyOfACertificateForTheNameMayTakeThePinnedOnesPlace(t *testing.T) {
	t.Parallel()
	const name = "ket-07.isles.saltmarsh.example"
	soon, past := time.Now().AddDate(0, 1, 0), time.Now().AddDate(0, -1, 0)
	yes, no := func(string) bool { return true }, func(string) bool { return false }
	for what, c := range map[string]struct {
		of      string
		until   time.Time
		issued  bool
		renewed func(string) bool
		want    probe.Outcome
	}{
		"issued for the name":             {name, soon, true, yes, probe.Answered},
		"issued, and another device's":    {name, soon, true, no, probe.Stranger},
		"issued, where nobody may say so": {name, soon, true, nil, probe.Stranger},
		"signed by itself":                {name, soon, false, yes, probe.Stranger},
		"issued for another name":         {"oys-03.isles.saltmarsh.example", soon, true, yes, probe.Stranger},
		"expired":                         {name, past, true, yes, probe.Stranger},
	} {
		at := shown(t, c.of, c.until, c.issued)
		r := speak.All(t.Context(), speak.Service{Request: speak.Request{Kind: "tls", Transport: probe.TCP, Target: at, Name: name,
			Deadline: 5 * time.Second}, Last: at.Port(), Pinned: "key SHA256:before", Expected: probe.ExpectReachable, Renewed: c.renewed})
		require.Equal(t, c.want, r.Outcome, "%s: %s", what, r.Deciding.Message)
	}
}
