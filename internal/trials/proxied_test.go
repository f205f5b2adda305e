package trials_test

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/testbed/inside"
)

const (
	proxyAt  = "127.0.0.50" // where a proxy's connections come from
	personAt = "127.0.0.77"
)

// handedOn has a real proxy hand connections on to the service as they are, with whom they are from in front.
func handedOn(t *testing.T, to, how string) (at string) {
	t.Helper()
	at = fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))
	config := filepath.Join(t.TempDir(), "haproxy.cfg")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `global
  maxconn 100
defaults
  mode tcp
  timeout connect 5s
  timeout client 60s
  timeout server 60s
listen post
  bind %s
  server here %s source %s %s
`, at, to, proxyAt, how), 0o600))
	proxy := exec.Command("/usr/sbin/haproxy", "-db", "-q", "-f", config)
	require.NoError(t, proxy.Start(), "make install-test")
	t.Cleanup(func() {
		_ = proxy.Process.Kill()
		_ = proxy.Wait()
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", at)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	return at
}

// from is an HTTP client at an address of its own; before, if set, is what it says in front of all.
func from(address, before string, secure *tls.Config) *http.Client {
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}, Timeout: 5 * time.Second}
	return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: secure, DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, at string) (net.Conn, error) {
			c, err := dialer.DialContext(ctx, network, at)
			if err == nil {
				_, err = io.WriteString(c, before)
			}
			return c, err
		}}}
}

// In front of TLS that is spoken here, a proxy can write no header.
func TestAProxyHandsConnectionsOnAsTheyAre(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"send-proxy", "send-proxy-v2"} {
		for _, secure := range []bool{false, true} {
			t.Run(fmt.Sprint(how, ", TLS ", secure), func(t *testing.T) {
				t.Parallel()
				certificate, roots := inside.Certificate(t, "127.0.0.1")
				dir := t.TempDir()
				inside.WriteCertificate(t, dir, certificate, 0o600)
				log := &said{}
				s, err := testbed.Bare(t, func(o *options) {
					o.Log = log.log()
					o.Proxies, o.ProxySays = []netip.Prefix{netip.MustParsePrefix(proxyAt + "/32")}, daemon.ByConnection
					if secure {
						o.TLSCert, o.TLSKey = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
					}
				})
				require.NoError(t, err)
				scheme, direct, _ := strings.Cut(s.URL, "://")
				config := &tls.Config{RootCAs: roots, ServerName: "127.0.0.1"}
				wrong := func(name string) string {
					body, err := json.Marshal(contract.SignIn{Name: name, Password: "not the password"})
					require.NoError(t, err)
					return string(body)
				}
				try := func(c *http.Client, at, name string, headers ...string) (int, error) {
					r, err := http.NewRequest("POST", scheme+"://"+at+"/api/v1/session", strings.NewReader(wrong(name)))
					require.NoError(t, err)
					r.Header.Set("Content-Type", "application/json")
					for i := 0; i < len(headers); i += 2 {
						r.Header.Set(headers[i], headers[i+1])
					}
					answer, err := c.Do(r)
					if err != nil {
						return 0, err
					}
					defer answer.Body.Close()
					return answer.StatusCode, nil
				}
				// Whoever signs in through the proxy is who connected to it, whatever stands in a header.
				code, err := try(from(personAt, "", config), handedOn(t, direct, how), "by-proxy", "X-Forwarded-For", "198.51.100.9")
				require.NoError(t, err)
				require.Equal(t, http.StatusUnauthorized, code)
				// Nobody else may say so: what is written there is no request.
				line := "PROXY TCP4 198.51.100.9 127.0.0.1 4000 80\r\n"
				code, err = try(from("127.0.0.78", line, config), direct, "forged")
				require.True(t, err != nil || code == http.StatusBadRequest, "%d %v", code, err)
				// A proxy that says nothing is not taken for somebody.
				_, err = try(from(proxyAt, "", config), direct, "silent")
				require.Error(t, err)
				// Whoever comes directly is who they are.
				code, err = try(from("127.0.0.79", "", config), direct, "directly")
				require.NoError(t, err)
				require.Equal(t, http.StatusUnauthorized, code)

				was := map[string]string{}
				for _, one := range regexp.MustCompile(`msg="sign-in failed" name=(\S+) from=(\S+)`).FindAllStringSubmatch(log.String(),
					-1) {
					was[one[1]] = one[2]
				}
				require.Equal(t, map[string]string{"by-proxy": personAt, "directly": "127.0.0.79"}, was)
			})
		}
	}
}

// A header that never ends, or comes too late, holds nobody else.
func TestAProxyThatStallsHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	s, err := testbed.Bare(t, func(o *options) {
		o.Proxies, o.ProxySays = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, daemon.ByConnection
	})
	require.NoError(t, err)
	_, direct, _ := strings.Cut(s.URL, "://")
	for range 40 {
		c, err := net.Dial("tcp", direct)
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, "PROXY TCP4 198.51.100.9 ")
		require.NoError(t, err)
	}
	c, err := net.Dial("tcp", direct)
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Second)))
	_, err = io.WriteString(c,
		"PROXY TCP4 198.51.100.9 127.0.0.1 4000 80\r\nGET /healthz HTTP/1.1\r\nHost: post\r\nConnection: close\r\n\r\n")
	require.NoError(t, err)
	answer, err := http.ReadResponse(bufio.NewReader(c), nil)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
}
