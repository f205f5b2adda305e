package daemon

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"
)

// fileCertificate is a certificate in two files, which is read anew when they change: whoever renews it need not tell the service.
type fileCertificate struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex
	looked  time.Time
	changed [2]time.Time
	loaded  *tls.Certificate
}

// lookEvery is how often the files are looked at, at most.
const lookEvery = time.Second

// readCertificate reads a certificate with its key. Error: a file that cannot be read, two that do not belong together.
func readCertificate(cert, key string, log *slog.Logger) (*fileCertificate, error) {
	c := &fileCertificate{cert: cert, key: key, log: log}
	return c, c.read()
}

func (c *fileCertificate) read() error {
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", c.cert, c.key, err)
	}
	c.loaded, c.changed = &pair, c.times()
	return nil
}

func (c *fileCertificate) times() (out [2]time.Time) {
	for i, file := range []string{c.cert, c.key} {
		if info, err := os.Stat(file); err == nil {
			out[i] = info.ModTime()
		}
	}
	return out
}

// get is for tls.Config. What cannot be read, as while it is being replaced, leaves the one before in use.
func (c *fileCertificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookEvery {
		c.looked = now
		if c.times() != c.changed {
			if err := c.read(); err != nil {
				c.log.Warn("the certificate could not be read anew; the one before stays in use", "error", err)
			} else {
				c.log.Info("the certificate was read anew", "file", c.cert)
			}
		}
	}
	return c.loaded, nil
}

// secure has the console speak TLS, and sends those on that come without.
func (d *Daemon) secure(at net.Addr) error {
	c, err := readCertificate(d.o.TLSCert, d.o.TLSKey, d.log)
	if err != nil {
		return err
	}
	d.tls = &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12}
	d.URL = "https://" + at.String()
	if d.o.PlainHTTP == "" {
		return nil
	}
	l, err := net.Listen("tcp", d.o.PlainHTTP)
	if err != nil {
		return fmt.Errorf("plain HTTP: %w", err)
	}
	d.Plain = l.Addr().String()
	_, port, _ := net.SplitHostPort(at.String())
	d.listen(bound(l, d.shares.redirects, nil), sendToTLS(d.o.PublicURL, port), nil)
	return nil
}

// sendToTLS sends browsers to the same page by HTTPS: at the public URL, or at the port of the console where none is set.
func sendToTLS(public, port string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		to := public
		if to == "" {
			host, _, err := net.SplitHostPort(r.Host)
			if err != nil {
				host = r.Host
			}
			if host == "" {
				http.Error(w, "the request names no host", http.StatusBadRequest)
				return
			}
			if to = "https://" + host; port != "443" {
				to = "https://" + net.JoinHostPort(strings.Trim(host, "[]"), port)
			}
		}
		w.Header().Set("Connection", "close")
		http.Redirect(w, r, to+r.URL.RequestURI(), http.StatusPermanentRedirect)
	})
}

// hostOf is the "host:port" of a URL of ours.
func hostOf(url string) string {
	_, host, _ := strings.Cut(url, "://")
	return host
}
