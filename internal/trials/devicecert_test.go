package trials_test

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/testbed/inside"
)

// certbot is a device's own ACME client, which proves its name by DNS UPDATE.
type certbot struct {
	t      *testing.T
	dir    string
	ca     testbed.CA
	secret string // of the file with the key
}

// newCertbot sets one up with a site's key, as docs/guides/certificates.md says.
func newCertbot(t *testing.T, ca testbed.CA, server string, key contract.SigningKey) certbot {
	t.Helper()
	_, err := exec.LookPath("certbot")
	require.NoError(t, err, "make install-test")
	host, port, err := net.SplitHostPort(server)
	require.NoError(t, err)
	c := certbot{t: t, dir: t.TempDir(), ca: ca}
	c.secret = filepath.Join(c.dir, "key.ini")
	require.NoError(t, os.WriteFile(c.secret, fmt.Appendf(nil, "dns_rfc2136_server = %s\ndns_rfc2136_port = %s\ndns_rfc2136_name = %s\n"+
		"dns_rfc2136_secret = %s\ndns_rfc2136_algorithm = HMAC-SHA256\n", host, port, key.Name, key.Secret), 0o600))
	return c
}

// run runs it; what it prints is for whoever reads why it failed.
func (c certbot) run(args ...string) (said string, err error) {
	c.t.Helper()
	args = append(args, "--non-interactive", "--config-dir", c.dir, "--work-dir", c.dir, "--logs-dir", c.dir, "--no-random-sleep-on-renew")
	cmd := exec.Command("certbot", args...)
	cmd.Env = append(os.Environ(), "REQUESTS_CA_BUNDLE="+c.ca.Bundle)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// issue asks for a certificate of a name.
func (c certbot) issue(name string) (said string, err error) {
	return c.run("certonly", "--agree-tos", "--email", "noc@saltmarsh.example", "--server", c.ca.Directory, "--authenticator",
		"dns-rfc2136", "--dns-rfc2136-credentials", c.secret, "--dns-rfc2136-propagation-seconds", "0", "--key-type", "ecdsa", "-d", name)
}

// page is a device's HTTPS page, which shows whatever certificate there is at the moment.
func page(t *testing.T, at string, load func() (*tls.Certificate, error)) (port int) {
	t.Helper()
	l, err := tls.Listen("tcp", at, &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return load() }})
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprintln(w, "recorder") }),
		ReadHeaderTimeout: time.Second}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close() })
	return l.Addr().(*net.TCPAddr).Port
}

// A customer's device gets a certificate for its name by itself, and what it shows is what Ink Post's probes see.
func TestADeviceGetsItsCertificateByDNSUpdate(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for _, code := range []string{"KET-07", "OYS-03"} {
		s.Record(t, code)
		s.Name(t, code)
	}
	s.Device(t, "KET-07", "recorder")
	const wan = "127.96.0.107"
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), wan))
	name := "ket-07." + zone
	// No refused nonces: that client repeats a refused one once, so one in 25 of its requests would fail. Ours repeats more often.
	ca := testbed.StartCA(t, testbed.CAHow{DNS: s.DNS, TLSPort: 1})
	key, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "recorder.ket-07.saltmarsh.example", Site: "KET-07"})
	require.NoError(t, err)
	bot := newCertbot(t, ca, s.DNS, key)

	own, _ := inside.Certificate(t, "recorder")
	live := filepath.Join(bot.dir, "live", name)
	port := page(t, wan+":0", func() (*tls.Certificate, error) {
		c, err := tls.LoadX509KeyPair(filepath.Join(live, "fullchain.pem"), filepath.Join(live, "privkey.pem"))
		if err != nil {
			return &own, nil // the one that it came with
		}
		return &c, nil
	})
	_, err = s.Client.AddService(t.Context(), "KET-07", contract.ServiceInput{Name: "recorder-page", Device: "recorder", Kind: "https",
		External: fmt.Sprint(port), Interval: 1})
	require.NoError(t, err)
	seen := func() *contract.Certificate {
		svc, err := s.Client.Service(t.Context(), "KET-07", "recorder-page")
		require.NoError(t, err)
		return svc.Certificate
	}
	soon(t, 20*time.Second, "the certificate that it came with is seen", func() bool {
		c := seen()
		return c != nil && len(c.Names) == 1 && c.Names[0] == "recorder"
	})

	said, err := bot.issue(name)
	require.NoError(t, err, said)
	soon(t, 20*time.Second, "the issued certificate is seen", func() bool { return seen().Names[0] == name })
	first := seen().Expires
	require.Greater(t, time.Until(first), 80*24*time.Hour)
	asked, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion("_acme-challenge."+name+".", dns.TypeTXT), s.DNS)
	require.NoError(t, err)
	require.Empty(t, asked.Answer, "the proof is taken away again")

	said, err = bot.run("renew", "--force-renewal")
	require.NoError(t, err, said)
	soon(t, 20*time.Second, "the renewed certificate is seen", func() bool { return seen().Expires.After(first) })
	faults, err := s.Client.Faults(t.Context(), "KET-07", false)
	require.NoError(t, err)
	require.Empty(t, faults, "a renewed certificate is nobody's trouble")
	svc, err := s.Client.Service(t.Context(), "KET-07", "recorder-page")
	require.NoError(t, err)
	require.Equal(t, "reachable", string(svc.State))
	require.Equal(t, "certificate for its name", svc.PinnedBy)

	said, err = bot.issue("oys-03." + zone)
	require.Error(t, err, "another site's name")
	require.Contains(t, said, "REFUSED")
}
