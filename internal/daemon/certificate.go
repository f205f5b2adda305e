package daemon

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/api"
	"inkpost.example/inkpost/internal/wire/acme"
)

// How proxies say whom they speak for.
const (
	ByXForwarded = api.ByXForwarded
	ByForwarded  = api.ByForwarded
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
	d.tls = &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}
	if d.o.TLSCert != "" {
		c, err := readCertificate(d.o.TLSCert, d.o.TLSKey, d.log)
		if err != nil {
			return err
		}
		d.tls.GetCertificate = c.get
	} else {
		public, err := url.Parse(d.o.PublicURL)
		if err != nil || public.Scheme != "https" || d.o.StateDir == "" {
			return errors.New("a certificate by an authority needs an https public URL, whose host it is for, and a state folder")
		}
		i, err := d.newIssuer(public.Hostname())
		if err != nil {
			return err
		}
		d.issuer, d.tls.GetCertificate = i, i.get
		d.tls.NextProtos = append(d.tls.NextProtos, acme.ALPN)
	}
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
	d.listen(d.bound(l, d.shares.redirects), sendToTLS(d.o.PublicURL, port), nil)
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

// selfSigned makes a certificate that nobody vouches for.
func selfSigned(key *ecdsa.PrivateKey, host string, now time.Time) (*tls.Certificate, error) {
	form := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: host}, DNSNames: []string{host},
		NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(0, 1, 0)}
	der, err := x509.CreateCertificate(rand.Reader, form, form, key.Public(), key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, err
}

// readKey reads a private key (PKCS #8, PEM). Error: a file that has none.
func readKey(path string) (crypto.Signer, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key", path)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("%s holds a key that cannot sign", path)
	}
	return signer, nil
}
