package inside

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Certificate makes one for a name or an address, which signs itself, and the roots that trust it.
func Certificate(t testing.TB, name string) (tls.Certificate, *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if a := net.ParseIP(name); a != nil {
		template.IPAddresses = []net.IP{a}
	} else {
		template.DNSNames = []string{name}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(leaf)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, roots
}

// WriteCertificate writes a certificate and its key as cert.pem and key.pem into a folder.
func WriteCertificate(t testing.TB, dir string, c tls.Certificate, mode os.FileMode) {
	t.Helper()
	key, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
	require.NoError(t, err)
	for file, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: c.Certificate[0]},
		"key.pem": {Type: "PRIVATE KEY", Bytes: key}} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(block), mode))
	}
}
