package testbed

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed/inside"
)

// CA is a certificate authority for tests (RFC 8555): the program with which others test their clients, run for real.
type CA struct {
	Directory string         // its URL
	Roots     *x509.CertPool // that vouch for its own server
	Bundle    string         // the file with them (PEM)
	manage    string
}

// CAHow says how an authority behaves.
type CAHow struct {
	DNS      string        // "host:port" of the name server that it asks
	TLSPort  int           // at which it looks for tls-alpn-01
	Lifetime time.Duration // of certificates; 90 days if 0
	BadNonce int           // percentage of requests whose nonce it refuses
	Env      []string
}

var authority = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "inkpost-authority-")
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "authority")
	said, err := exec.Command("go", "build", "-o", file, "github.com/letsencrypt/pebble/v2/cmd/pebble").CombinedOutput()
	if err != nil {
		return string(said), err
	}
	return file, nil
})

// StartCA runs an authority on free ports.
func StartCA(t testing.TB, how CAHow) CA {
	t.Helper()
	program, err := authority()
	require.NoError(t, err, program)
	dir := t.TempDir()
	own, roots := inside.Certificate(t, "127.0.0.1")
	inside.WriteCertificate(t, dir, own, 0o600)
	lifetime := how.Lifetime
	if lifetime == 0 {
		lifetime = 90 * 24 * time.Hour
	}
	api, manage := FreePort(t), FreePort(t)
	config, err := json.Marshal(map[string]any{"pebble": map[string]any{
		"listenAddress": fmt.Sprintf("127.0.0.1:%d", api), "managementListenAddress": fmt.Sprintf("127.0.0.1:%d", manage),
		"certificate": filepath.Join(dir, "cert.pem"), "privateKey": filepath.Join(dir, "key.pem"), "httpPort": 1, "tlsPort": how.TLSPort,
		"keyAlgorithm": "ecdsa", "retryAfter": map[string]int{"authz": 1, "order": 1},
		"profiles": map[string]any{"default": map[string]any{"description": "for tests", "validityPeriod": int(lifetime.Seconds())}}}})
	require.NoError(t, err)
	file := filepath.Join(dir, "config.json")
	require.NoError(t, os.WriteFile(file, config, 0o600))
	cmd := exec.Command(program, "-config", file, "-dnsserver", how.DNS, "-strict")
	cmd.Env = append(append(os.Environ(), "PEBBLE_VA_NOSLEEP=1", fmt.Sprintf("PEBBLE_WFE_NONCEREJECT=%d", how.BadNonce)), how.Env...)
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = log.Close()
		if t.Failed() {
			said, _ := os.ReadFile(filepath.Join(dir, "log"))
			t.Logf("the authority said:\n%s", said)
		}
	})
	ca := CA{Directory: fmt.Sprintf("https://127.0.0.1:%d/dir", api), Roots: roots, Bundle: filepath.Join(dir, "cert.pem"),
		manage: fmt.Sprintf("https://127.0.0.1:%d", manage)}
	require.Eventually(t, func() bool {
		r, err := ca.browser().Get(ca.Directory)
		if err == nil {
			_ = r.Body.Close()
		}
		return err == nil && r.StatusCode == http.StatusOK
	}, 20*time.Second, 50*time.Millisecond, "the authority answers")
	return ca
}

func (ca CA) browser() *http.Client {
	return &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: ca.Roots}}}
}

// Issued is the roots that vouch for what the authority issues.
func (ca CA) Issued(t testing.TB) *x509.CertPool {
	t.Helper()
	r, err := ca.browser().Get(ca.manage + "/roots/0")
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(text))
	return roots
}
