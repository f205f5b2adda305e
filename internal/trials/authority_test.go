package trials_test

import (
	"crypto/tls"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/testbed"
)

// issuing is a service with a name of its own, which gets its certificate from a real authority that refuses a part of all nonces.
func issuing(t *testing.T, challenge string, lifetime time.Duration, zoned bool) (d *daemon.Daemon, ca testbed.CA, restart func()) {
	t.Helper()
	port, dns, state, database := testbed.FreePort(t), testbed.FreePort(t), t.TempDir(), testbed.Database(t)
	ca = testbed.StartCA(t, testbed.CAHow{DNS: fmt.Sprintf("127.0.0.1:%d", dns), TLSPort: port, Lifetime: lifetime, BadNonce: 20})
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
	_, err := d.Engine().AddZone(t.Context(), contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=127.0.0.1"}})
	require.NoError(t, err)
	soon(t, time.Minute, "it is mended", func() bool { return shows(t, d, ca) != nil })
}
