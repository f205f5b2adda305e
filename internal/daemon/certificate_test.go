package daemon_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/testbed/inside"
)

// renewed writes a fresh certificate for localhost into a folder, and returns the roots that trust it, and what tells it from others.
func renewed(t *testing.T, dir string) (*x509.CertPool, []byte) {
	t.Helper()
	c, roots := inside.Certificate(t, "localhost")
	inside.WriteCertificate(t, dir, c, 0o600)
	return roots, c.Certificate[0]
}

// browser believes in some certificates, follows nothing, and uses a new connection for each request.
func browser(roots *x509.CertPool) *http.Client {
	return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots,
		ServerName: "localhost"}, ForceAttemptHTTP2: true, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func TestTheConsoleSpeaksHTTPSByItself(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	roots, first := renewed(t, dir)
	d, err := testbed.Bare(t, func(o *testbed.Options) { o.TLSCert, o.TLSKey, o.PlainHTTP = cert, key, "127.0.0.1:0" })
	require.NoError(t, err)
	require.Contains(t, d.URL, "https://127.0.0.1:")
	password, settled := d.FirstOwner(t.Context(), "owner")
	require.True(t, settled)
	doc, err := json.Marshal(map[string]string{"name": "owner", "password": password})
	require.NoError(t, err)
	r, err := browser(roots).Post(d.URL+"/api/v1/session", "application/json", bytes.NewReader(doc))
	require.NoError(t, err)
	defer r.Body.Close()
	require.Equal(t, 200, r.StatusCode)
	require.Equal(t, "HTTP/2.0", r.Proto)
	require.True(t, r.Cookies()[0].Secure)
	require.Equal(t, "max-age=31536000", r.Header.Get("Strict-Transport-Security"))

	r, err = browser(nil).Get("http://" + d.Plain + "/sites/KET-07?find=a%20b")
	require.NoError(t, err)
	defer r.Body.Close()
	require.Equal(t, http.StatusPermanentRedirect, r.StatusCode)
	require.Equal(t, d.URL+"/sites/KET-07?find=a%20b", r.Header.Get("Location"))
	require.Empty(t, r.Header.Get("Strict-Transport-Security"), "over plain HTTP it means nothing (RFC 6797 section 7.2)")

	// It is renewed, badly at first.
	require.NoError(t, os.WriteFile(cert, []byte("half a file"), 0o600))
	shown := func() []byte {
		c, err := tls.Dial("tcp", d.URL[len("https://"):], &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			return nil
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].Raw
	}
	require.Never(t, func() bool { return !bytes.Equal(shown(), first) }, 2500*time.Millisecond, 250*time.Millisecond,
		"the one before stays")
	roots, second := renewed(t, dir)
	require.Eventually(t, func() bool { return bytes.Equal(shown(), second) }, 10*time.Second, 100*time.Millisecond)
	r, err = browser(roots).Get(d.URL + "/healthz")
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
}

func TestACertificateThatCannotBeUsedEndsTheStart(t *testing.T) {
	t.Parallel()
	one, other := t.TempDir(), t.TempDir()
	renewed(t, one)
	renewed(t, other)
	for name, cert := range map[string]string{"no file": filepath.Join(one, "none.pem"), "another's key": filepath.Join(one, "cert.pem")} {
		_, err := testbed.Bare(t, func(o *testbed.Options) { o.TLSCert, o.TLSKey = cert, filepath.Join(other, "key.pem") })
		require.ErrorContains(t, err, "certificate "+cert, name)
	}
}

// What a browser would not take is told before anybody asks.
func TestACheckupReadsTheCertificate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	renewed(t, dir)
	at := testbed.FreePort(t)
	d, err := testbed.Bare(t, func(o *testbed.Options) {
		o.HTTP = fmt.Sprintf("127.0.0.1:%d", at)
		o.TLSCert, o.TLSKey, o.PublicURL = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"),
			fmt.Sprintf("https://localhost:%d", at)
	})
	require.NoError(t, err)
	var said checkup.Point
	require.NoError(t, d.Engine().Checkup.All(t.Context(), func(p checkup.Point) error {
		if p.Part == checkup.HTTPS {
			said = p
		}
		return nil
	}))
	require.Equal(t, checkup.Wrong, said.Standing, said.Seen)
	require.Contains(t, said.Seen, "unknown authority", "nobody vouches for it")
}
