// Package packages_test has the packages of this commit put on a new Debian machine: service, vantage point and agent run as their units
// say, a site behind real kernel NAT is commissioned by the command line, and everything is removed again. It needs Debian's archive, and
// is run by make package-trial, which prints its log.
package packages_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed/inside"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

const (
	home   = "post.saltmarsh.example"
	device = "192.168.7.30"
	phrase = "slipway-gannet-kettle"
)

var (
	oneTime = regexp.MustCompile(`One-time password of owner: (\S+)`)
	code    = regexp.MustCompile(`--code (\S+)`)
)

// packages are those of this machine's kind.
func packages(t *testing.T) []string {
	t.Helper()
	var out []string
	for _, pattern := range []string{"*_" + runtime.GOARCH + ".deb", "*_all.deb"} {
		found, err := filepath.Glob("../../../dist/" + pattern)
		require.NoError(t, err)
		out = append(out, found...)
	}
	require.Len(t, out, 4, "make package builds them")
	return out
}

func TestLintianFindsNoFault(t *testing.T) {
	out, err := exec.Command("lintian", append([]string{"--allow-root", "--fail-on", "error,warning"}, packages(t)...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	fmt.Printf("lintian: no error and no warning\n%s", out)
}

func TestThePackagesFromNothingToASiteInUseAndAway(t *testing.T) {
	site := spaces.NewSite(spaces.New(t), spaces.Direct)
	m := newMachine(t, site.Spaces)
	site.Plug("device", "02:00:5e:07:00:30", device+"/24")
	for _, deb := range packages(t) {
		content, err := os.ReadFile(deb)
		require.NoError(t, err)
		m.write("/packages/"+filepath.Base(deb), string(content), 0o644)
	}
	m.do("apt-get update -qq && apt-get install -y -qq --no-install-recommends /packages/*.deb postgresql ca-certificates nginx-light")
	m.typed("out", "dpkg-query -W 'inkpost*'; inkpost --version; man -w inkpost 2>/dev/null || ls /usr/share/man/man1/inkpost.1.gz")

	// A certificate from a file, which this machine trusts.
	certificate, _ := inside.Certificate(t, home)
	inside.WriteCertificate(t, m.path("/etc/inkpost"), certificate, 0o644)
	m.do("cp /etc/inkpost/cert.pem /usr/local/share/ca-certificates/post.crt && update-ca-certificates >/dev/null 2>&1")
	m.do("chgrp inkpost /etc/inkpost/key.pem && chmod 0640 /etc/inkpost/key.pem && echo '" + spaces.Outside + " " + home + "' >>/etc/hosts")

	// The database, the configuration, the service.
	m.typed("out", "pg_ctlcluster 15 main start && su postgres -c 'createuser inkpost && createdb -O inkpost inkpost'")
	t.Cleanup(func() {
		_ = exec.Command("chroot", m.root, "pg_ctlcluster", "-m", "immediate", "15", "main", "stop").Run()
	})
	m.do(`sed -i -e 's|^#public-url:.*|public-url: https://` + home + `|' -e 's|^http: .*|http: ":443"|' \
  -e 's|^#tls-cert:|tls-cert:|' -e 's|^#tls-key:|tls-key:|' -e 's|^dns: .*|dns: ":53"|' -e 's|^stun: .*|stun: ":3478"|' \
  -e 's|^redirect: .*|redirect: ""|' /etc/inkpost/serve.yaml`)
	service := m.start("out", "inkpost")
	require.Eventually(t, func() bool { return oneTime.MatchString(service.Says()) }, time.Minute, 50*time.Millisecond)
	password := oneTime.FindStringSubmatch(service.Says())[1]

	m.typed("out", fmt.Sprintf("printf '%%s\\n%s\\n' %s | inkpost login --server https://%s --name owner --password-stdin", phrase,
		password, home))
	for _, line := range []string{
		"zone add isles.saltmarsh.example --ns ns1.isles.saltmarsh.example=" + spaces.Outside,
		`site add KET-07 --name "Lighthouse Museum"`,
		`link add KET-07 main --provider "Kettle Cable"`,
		"hostname add ket-07.isles.saltmarsh.example --site KET-07",
		"device add KET-07 recorder --lan-address " + device + " --mac 02:00:5e:07:00:30",
		"service add KET-07 recorder-page --device recorder --external 8080 --internal 80 --kind http --every 10",
	} {
		m.typed("out", "inkpost "+line)
	}

	// The vantage point enrols at its first start, by what stands in its file.
	invited := code.FindStringSubmatch(m.typed("out", "inkpost vantage invite quay --note 'the office'"))
	require.NotNil(t, invited)
	m.do(fmt.Sprintf("printf 'INKPOST_SERVER=https://%s\\nINKPOST_CODE=%s\\n' >/etc/inkpost/vantage", home, invited[1]))
	site.Make("away")
	site.Join("out away 1.2.9.1/24", "away eth0 1.2.9.2/24")
	site.In("away", "ip", "route", "add", "default", "via", "1.2.9.1")
	m.start("away", "inkpost-vantage")

	// The agent, at the site: behind the router.
	invited = code.FindStringSubmatch(m.typed("out", "inkpost agent invite KET-07"))
	require.NotNil(t, invited)
	m.typed("lan", fmt.Sprintf("inkpost-agent install --root / --server https://%s --code %s --source observed", home, invited[1]))
	require.NoFileExists(t, m.path("/etc/systemd/system/inkpost-agent.service"), "the package has brought the unit")
	m.start("lan", "inkpost-agent")
	require.Eventually(t, func() bool {
		out := m.In("out", m.there("inkpost hostname list --format csv")...)
		return strings.Contains(out, site.WAN)
	}, time.Minute, 200*time.Millisecond)

	commission(t, m, site)

	m.typed("out", "inkpost why KET-07")
	m.typed("out", "inkpost vantage list")
	backup := m.start("out", "inkpost-backup")
	require.Eventually(t, func() bool { return strings.Contains(backup.Says(), "octets, made in") }, time.Minute, 50*time.Millisecond)
	m.say("%s", strings.TrimSpace(backup.Says()))
	said := m.typed("out", "inkpost doctor --all || echo exit code $?")
	for _, part := range []string{"backup, newest", "vantage point, quay: works", "port, console from quay",
		"port, names over UDP from quay",
		"port, names over TCP from quay", "port, STUN from quay", "zone, isles.saltmarsh.example at ns1", "certificate, public URL"} {
		require.Regexp(t, "good +"+part, said)
	}

	m.say("removed: apt-get purge")
	service.Kill()
	m.do("apt-get purge -y -qq 'inkpost*'")
	m.do("apt-get autoremove -y -qq --purge >/dev/null")
	// Users stay, as Debian has it: their numbers are not given to others. So does what the packages did not bring.
	require.Equal(t, []string{"/etc/inkpost", "/root/.config/inkpost", "/var/backups/inkpost"}, m.left())
	entries, err := os.ReadDir(m.path("/etc/inkpost"))
	require.NoError(t, err)
	for _, e := range entries {
		require.Contains(t, []string{"cert.pem", "key.pem"}, e.Name())
	}
	m.say("nothing of Ink Post is left")
}

// commission brings the service into use: the device is there, then the router's forward.
func commission(t *testing.T, m *machine, site *spaces.Site) {
	t.Helper()
	m.say("device: a web server starts")
	m.Serve("device", m.there("exec nginx -g 'daemon off;'")...)
	m.typed("out", "inkpost commission KET-07 --once")
	m.typed("out", "inkpost commission done KET-07 reserved --device recorder")
	// It waits at the forward, which is not there.
	out := m.typed("out", "inkpost commission KET-07 --for 15s || echo exit code $?")
	require.Contains(t, out, "exit code 1")
	require.Contains(t, out, "In the router, enter the forward: TCP, external 8080")
	m.say("router: the forward is entered")
	site.Forward(8080, device+":80")
	for _, step := range []string{
		"skip KET-07 resolved --note 'no resolver here'", "skip KET-07 restart --note 'later'", "skip KET-07 rehearsal --note 'later'",
		"done KET-07 doors",
	} {
		m.typed("out", "inkpost commission "+step)
	}
	require.Eventually(t, func() bool {
		var s contract.Service
		out := m.In("out", m.there("inkpost service show KET-07 recorder-page --format json")...)
		return json.Unmarshal([]byte(out), &s) == nil && s.State == "reachable"
	}, time.Minute, time.Second)
	m.typed("out", "inkpost sheet keep KET-07; inkpost commission KET-07 --for 60s")
}
