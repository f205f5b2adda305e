package testbed

import (
	"cmp"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// FreePort finds a port that is free on UDP and TCP.
func FreePort(t testing.TB) int {
	t.Helper()
	for range 20 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		port := l.Addr().(*net.TCPAddr).Port
		u, err := net.ListenPacket("udp", l.Addr().String())
		_ = l.Close()
		if err == nil {
			_ = u.Close()
			return port
		}
	}
	t.Fatal("no port is free on UDP and TCP")
	return 0
}

// Secondary says what a real name server takes from where.
type Secondary struct {
	Zone         string
	Primary      int // port on 127.0.0.1
	Also         int // that of another one, for Knot; 0 for none
	Key, Secret  string
	Listen       int    // port
	Host, From   string // its address and the primary's; 127.0.0.1 if empty, and for BIND
	program, dir string
}

// folder makes a place for a server's files.
func (s *Secondary) folder(t testing.TB) {
	dir, err := os.MkdirTemp("", "inkpost-secondary-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o777))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	s.dir = dir
}

// filled is a configuration with the server's own values in the places of their names.
func (s *Secondary) filled(config string) string {
	return strings.NewReplacer("DIR", s.dir, "HOST", cmp.Or(s.Host, "127.0.0.1"), "FROM", cmp.Or(s.From, "127.0.0.1"), "LISTEN",
		fmt.Sprint(s.Listen), "PRIMARY", fmt.Sprint(s.Primary), "ZONE", s.Zone,
		"KEY", s.Key, "SECRET", s.Secret).Replace(config)
}

func (s *Secondary) run(t testing.TB, args ...string) {
	program, err := exec.LookPath(s.program)
	if err != nil {
		program = "/usr/sbin/" + s.program
	}
	log, err := os.Create(filepath.Join(s.dir, "log"))
	require.NoError(t, err)
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = s.dir, log, log
	require.NoError(t, cmd.Start(), "install what the tests need: make install-test")
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		ended := make(chan struct{})
		go func() { _ = cmd.Wait(); close(ended) }()
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = cmd.Process.Kill()
			<-ended
		}
		_ = log.Close()
		if t.Failed() {
			said, _ := os.ReadFile(filepath.Join(s.dir, "log"))
			t.Logf("%s said:\n%s", s.program, said)
		}
	})
}

// Addr is where the server answers.
func (s *Secondary) Addr() string { return fmt.Sprintf("%s:%d", cmp.Or(s.Host, "127.0.0.1"), s.Listen) }

// StartBIND runs Debian's BIND as a secondary of a zone.
func StartBIND(t testing.TB, s Secondary) *Secondary {
	t.Helper()
	s.program = "named"
	s.folder(t)
	config := fmt.Sprintf(`options { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; pid-file none;
		session-keyfile "session.key"; minimal-responses yes; minimal-any yes; notify no; allow-query { any; }; dnssec-validation no;
		min-refresh-time 1; };
		controls { };
		key %q { algorithm hmac-sha256; secret %q; };
		zone %q { type secondary; primaries port %d { 127.0.0.1 key %q; }; file "zone.db"; allow-notify { key %q; };
		masterfile-format text; };
	`, s.dir, s.Listen, s.Key, s.Secret, s.Zone, s.Primary, s.Key, s.Key)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "named.conf"), []byte(config), 0o644))
	s.run(t, "-g", "-n", "1", "-c", filepath.Join(s.dir, "named.conf"))
	return &s
}

// StartNSD runs Debian's NSD as a secondary of a zone.
func StartNSD(t testing.TB, s Secondary) *Secondary {
	t.Helper()
	s.program = "nsd"
	s.folder(t)
	config := s.filled(`
server:
  ip-address: HOST@LISTEN
  username: ""
  chroot: ""
  database: ""
  pidfile: ""
  zonesdir: "DIR"
  xfrdir: "DIR"
  xfrdfile: "DIR/xfrd.state"
  zonelistfile: "DIR/zone.list"
  server-count: 1
  minimal-responses: yes
  rrl-ratelimit: 0
  xfrd-reload-timeout: 0
  verbosity: 2
remote-control:
  control-enable: no
key:
  name: "KEY"
  algorithm: hmac-sha256
  secret: "SECRET"
zone:
  name: "ZONE"
  zonefile: "DIR/zone.db"
  request-xfr: FROM@PRIMARY KEY
  allow-notify: FROM KEY
`)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "nsd.conf"), []byte(config), 0o644))
	s.run(t, "-d", "-c", filepath.Join(s.dir, "nsd.conf"))
	return &s
}

// knot is what each configuration of Knot begins with.
const knot = `
server:
    rundir: "DIR"
    listen: HOST@LISTEN
    udp-workers: 1
    tcp-workers: 1
    background-workers: 1
database:
    storage: "DIR"
log:
  - target: stderr
    any: info
key:
  - id: KEY
    algorithm: hmac-sha256
    secret: SECRET
`

// StartKnot runs Debian's Knot as a secondary of a zone.
func StartKnot(t testing.TB, s Secondary) *Secondary {
	t.Helper()
	s.program = "knotd"
	s.folder(t)
	config := s.filled(knot + `remote:
  - id: primary
    address: FROM@PRIMARY
    key: KEY
acl:
  - id: told
    key: KEY
    action: notify
zone:
  - domain: ZONE
    storage: "DIR"
    file: zone.db
    master: primary
    acl: told
`)
	if s.Also != 0 {
		config = strings.Replace(config, "acl:\n", fmt.Sprintf("  - id: also\n    address: 127.0.0.1@%d\n    key: %s\nacl:\n", s.Also,
			s.Key), 1)
		config = strings.Replace(config, "master: primary", "master: [primary, also]", 1)
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "knot.conf"), []byte(config), 0o644))
	s.run(t, "-c", filepath.Join(s.dir, "knot.conf"))
	return &s
}

// Primary says what a real name server serves and lets be updated.
type Primary struct {
	Zone, Key, Secret string
	Listen            int    // port
	Host              string // address of it; 127.0.0.1 if empty, and for BIND
	Records           string // of its zone file, behind SOA and NS
}

const primaryZone = `$TTL 60
@ SOA ns.elsewhere.example. hostmaster.elsewhere.example. 1 3600 300 1209600 30
@ NS ns.elsewhere.example.
`

// StartBINDPrimary runs Debian's BIND as the primary of a zone that the holder of a key may update.
func StartBINDPrimary(t testing.TB, p Primary) *Secondary {
	t.Helper()
	s := Secondary{Listen: p.Listen, program: "named"}
	s.folder(t)
	config := fmt.Sprintf(`options { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; pid-file none;
		session-keyfile "session.key"; notify no; allow-query { any; }; dnssec-validation no; };
		controls { };
		key %q { algorithm hmac-sha256; secret %q; };
		zone %q { type primary; file "zone.db"; update-policy { grant %q zonesub ANY; }; };
	`, s.dir, p.Listen, p.Key, p.Secret, p.Zone, p.Key)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "named.conf"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "zone.db"), []byte(primaryZone+p.Records), 0o666))
	s.run(t, "-g", "-n", "1", "-c", filepath.Join(s.dir, "named.conf"))
	return s.ready(t, p.Zone)
}

// StartKnotPrimary runs Debian's Knot as the primary of a zone that the holder of a key may update.
func StartKnotPrimary(t testing.TB, p Primary) *Secondary {
	t.Helper()
	s := Secondary{Listen: p.Listen, Host: p.Host, Zone: p.Zone, Key: p.Key, Secret: p.Secret, program: "knotd"}
	s.folder(t)
	config := s.filled(knot + `acl:
  - id: push
    key: KEY
    action: [update, transfer]
zone:
  - domain: ZONE
    storage: "DIR"
    file: zone.db
    acl: push
    zonefile-sync: -1
    zonefile-load: difference
    journal-content: all
`)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "knot.conf"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "zone.db"), []byte(primaryZone+p.Records), 0o666))
	s.run(t, "-c", filepath.Join(s.dir, "knot.conf"))
	return s.ready(t, p.Zone)
}

// ready waits until the server answers for its zone.
func (s *Secondary) ready(t testing.TB, zone string) *Secondary {
	t.Helper()
	require.Eventually(t, func() bool { return Serial(s.Addr(), zone) != 0 }, 20*time.Second, 20*time.Millisecond, "%s serves %s",
		s.program, zone)
	return s
}

// Serial asks a name server for a zone's serial; 0 if it has none.
func Serial(server, zone string) uint32 {
	c := dns.Client{Timeout: time.Second}
	r, _, err := c.Exchange(new(dns.Msg).SetQuestion(dns.Fqdn(zone), dns.TypeSOA), server)
	if err != nil || len(r.Answer) != 1 {
		return 0
	}
	return r.Answer[0].(*dns.SOA).Serial
}
