package cli

import (
	"crypto/x509"
	"fmt"
	"os"
	"strings"

	"inkpost.example/inkpost/internal/daemon"
)

// authority reads how the console's certificate is got from an authority.
func authority(o *daemon.Options, challenge, roots string) error {
	a := &o.Authority
	switch challenge {
	case "tls-alpn":
		a.Challenge = daemon.ByTLS
	case "dns":
		a.Challenge = daemon.ByDNS
	default:
		return usagef("--acme-challenge %q is unknown; it is tls-alpn or dns", challenge)
	}
	if a.Directory == "" {
		return nil
	}
	switch {
	case !strings.HasPrefix(a.Directory, "https://"):
		return usagef("--acme-directory %q is not the URL of an authority; it begins with https://", a.Directory)
	case o.TLSCert != "":
		return usagef("--acme-directory gets a certificate, and --tls-cert has one; give one of them")
	case !strings.HasPrefix(o.PublicURL, "https://"):
		return usagef("--acme-directory needs --public-url, such as https://post.saltmarsh.example: the certificate is for its host")
	case o.StateDir == "":
		return usagef("--acme-directory needs --state-dir, where the certificate is kept")
	}
	if roots == "" {
		return nil
	}
	text, err := os.ReadFile(roots)
	if err != nil {
		return fmt.Errorf("--acme-roots: %w", err)
	}
	a.Roots = x509.NewCertPool()
	if !a.Roots.AppendCertsFromPEM(text) {
		return usagef("--acme-roots: %s holds no certificate (PEM)", roots)
	}
	return nil
}
