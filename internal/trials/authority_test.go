package trials_test

import (
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/acme"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

// issuing is a service with a name of its own, which gets its certificate from a real authority that refuses a part of all nonces.
func issuing(t *testing.T, challenge string, lifetime time.Duration, zoned bool) (d *daemon.Daemon, ca testbed.CA, restart func()) {
	t.Helper()
	return issuingWith(t, challenge, lifetime, zoned, t.TempDir())
}

// issuingIn is the same with a hosted zone; state is the folder in which it keeps its account.
func issuingIn(t *testing.T, challenge string, lifetime time.Duration) (d *daemon.Daemon, ca testbed.CA, state string) {
	t.Helper()
	state = t.TempDir()
	d, ca, _ = issuingWith(t, challenge, lifetime, true, state)
	return d, ca, state
}

func issuingWith(t *testing.T, challenge string, lifetime time.Duration, zoned bool, state string) (d *daemon.Daemon, ca testbed.CA,
	restart func()) {
	t.Helper()
	port, dns, database := testbed.FreePort(t), testbed.FreePort(t), testbed.Database(t)
	nonces := 20
	if !zoned { // nothing is issued, and how long that lasts is looked at: the client waits longer after each nonce that is refused
		nonces = 0
	}
	ca = testbed.StartCA(t, testbed.CAHow{DNS: fmt.Sprintf("127.0.0.1:%d", dns), TLSPort: port, Lifetime: lifetime, BadNonce: nonces})
	begin := func() {
		var err error
		d, err = testbed.Bare(t, func(o *options) {
			o.Database, o.StateDir = database, state
			o.HTTP, o.DNS = fmt.Sprintf("127.0.0.1:%d", port), fmt.Sprintf("127.0.0.1:%d", dns)
			o.PublicURL = fmt.Sprintf("https://post.%s:%d", zone, port)
			o.Authority = daemon.Authority{Directory: ca.Directory, Contact: "noc@saltmarsh.example", Roots: ca.Roots,
				Retry: 200 * time.Millisecond}
			if o.Authority.Challenge = daemon.ByTLS; challenge == "dns" {
				o.Authority.Challenge = daemon.ByDNS
			}
		})
		require.NoError(t, err)
	}
	begin()
	if zoned {
		_, err := d.Engine().AddZone(t.Context(), contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=127.0.0.1"}})
		require.NoError(t, err)
		_, err = d.Engine().AddZoneRecord(t.Context(), zone, contract.RecordInput{Name: names.Name("post." + zone), Type: "A",
			Data: "127.0.0.1"})
		require.NoError(t, err)
	}
	return d, ca, func() { d.Stop(); begin() }
}

// shows is the certificate that the console shows; nil where nobody vouches for it.
func shows(t *testing.T, d *daemon.Daemon, ca testbed.CA) []byte {
	t.Helper()
	c, err := tls.Dial("tcp", strings.TrimPrefix(d.URL, "https://"), &tls.Config{RootCAs: ca.Issued(t), ServerName: "post." + zone})
	if err != nil {
		return nil
	}
	defer c.Close()
	return c.ConnectionState().PeerCertificates[0].Raw
}

func TestTheConsoleGetsItsCertificateFromAnAuthority(t *testing.T) {
	t.Parallel()
	for _, challenge := range []string{"tls-alpn", "dns"} {
		t.Run(challenge, func(t *testing.T) {
			t.Parallel()
			d, ca, restart := issuing(t, challenge, 0, true)
			soon(t, time.Minute, "the authority vouches for the console", func() bool { return shows(t, d, ca) != nil })
			first := shows(t, d, ca)
			records, err := d.Engine().ZoneRecords(zone)
			require.NoError(t, err)
			soon(t, 10*time.Second, "the proof is taken away", func() bool {
				records, err = d.Engine().ZoneRecords(zone)
				return err == nil && len(records) == 1
			})
			browser := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: ca.Issued(t),
				ServerName: "post." + zone}}}
			r, err := browser.Get(d.URL + "/healthz")
			require.NoError(t, err)
			require.NoError(t, r.Body.Close())
			require.Equal(t, http.StatusOK, r.StatusCode)
			restart()
			require.Equal(t, first, shows(t, d, ca), "it is kept, and not asked for again")
		})
	}
}

func TestACertificateIsRenewedBeforeItEnds(t *testing.T) {
	t.Parallel()
	d, ca, _ := issuing(t, "tls-alpn", 15*time.Second, true)
	soon(t, time.Minute, "there is a first one", func() bool { return shows(t, d, ca) != nil })
	first := shows(t, d, ca)
	soon(t, 30*time.Second, "there is a second one", func() bool {
		now := shows(t, d, ca)
		return now != nil && string(now) != string(first)
	})
}

// What the authority refuses is told, and tried again until it is mended.
func TestWhyAnAuthorityGivesNoCertificateIsTold(t *testing.T) {
	t.Parallel()
	d, ca, _ := issuing(t, "dns", 0, false)
	said := func() (one checkup.Point) {
		require.NoError(t, d.Engine().Checkup.All(t.Context(), func(p checkup.Point) error {
			if p.Part == checkup.HTTPS {
				one = p
			}
			return nil
		}))
		return one
	}
	soon(t, 20*time.Second, "it is told", func() bool { return strings.Contains(said().Seen, "lies in no zone that is hosted here") })
	require.Equal(t, checkup.Wrong, said().Standing)
	open := func() (causes []string) {
		list, err := d.Engine().Faults(t.Context(), store.FaultFilter{OpenOnly: true, Limit: 10})
		require.NoError(t, err)
		for _, f := range list {
			causes = append(causes, string(f.Finding.Cause))
		}
		return causes
	}
	soon(t, 30*time.Second, "it is a fault once it has lasted", func() bool { return slices.Contains(open(), "certificate-unrenewed") })
	_, err := d.Engine().AddZone(t.Context(), contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=127.0.0.1"}})
	require.NoError(t, err)
	soon(t, time.Minute, "it is mended", func() bool { return shows(t, d, ca) != nil })
	soon(t, 30*time.Second, "the fault is closed", func() bool { return len(open()) == 0 })
}

// An account that was revoked at the authority is replaced by another.
func TestARevokedAccountIsReplaced(t *testing.T) {
	t.Parallel()
	d, ca, state := issuingIn(t, "tls-alpn", 15*time.Second)
	soon(t, time.Minute, "there is a first one", func() bool { return shows(t, d, ca) != nil })
	file := filepath.Join(state, "authority", "account.pem")
	was, err := os.ReadFile(file)
	require.NoError(t, err)
	block, _ := pem.Decode(was)
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	require.NoError(t, err)
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: ca.Roots}
	c := &acme.Client{Key: key.(crypto.Signer), DirectoryURL: ca.Directory, HTTPClient: &http.Client{Transport: transport}}
	require.NoError(t, c.DeactivateReg(t.Context()))
	first := shows(t, d, ca)
	soon(t, time.Minute, "there is another one, by another account", func() bool {
		now, shown := []byte(nil), shows(t, d, ca)
		now, err = os.ReadFile(file)
		return err == nil && string(now) != string(was) && shown != nil && string(shown) != string(first)
	})
	require.FileExists(t, filepath.Join(state, "authority", "account.refused.pem"))
}
