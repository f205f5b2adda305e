package source_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/core/wan"
)

// What stands behind real kernel NAT is tried in network namespaces of the test's own: a machine on a LAN, its router with
// miniupnpd, perhaps a second device that translates in front of it, and a STUN server (coturn) outside. miniupnpd refuses special
// addresses on its WAN side, and so outside has one that is not special; the namespaces have no way out.
const (
	outside  = "1.2.3.1"
	public   = "1.2.3.7"
	public2  = "1.2.3.8"
	machine  = "192.168.7.20"
	lanSide  = "192.168.7.1"
	asked    = "INKPOST_TEST_LEARN"
	stunPort = "3478"
)

// learned is what a machine on the LAN learns.
type learned struct {
	Reports []wan.Report
	Chain   []netip.Addr
}

// TestLearnInside is run by the other tests, inside a namespace.
func TestLearnInside(t *testing.T) {
	file := os.Getenv(asked)
	if file == "" {
		t.Skip("run by the tests of kernel NAT, in a namespace")
	}
	n := source.Network{Dial: system}
	var out learned
	for _, s := range []source.Source{source.STUN{Network: n, Servers: []string{outside + ":" + stunPort}}, source.Gateway{Network: n}, source.Interface{Name: "lan0"}} {
		out.Reports = append(out.Reports, s.Learn(t.Context())...)
	}
	out.Chain = source.Hops(t.Context(), netip.MustParseAddr(outside))
	doc, err := json.Marshal(out)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, doc, 0o600))
}

// net is a set of namespaces, removed when the test ends.
type spaces struct {
	t      *testing.T
	suffix string
}

func (s spaces) name(space string) string { return "ink-" + space + s.suffix }

func (s spaces) run(args ...string) {
	s.t.Helper()
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	require.NoError(s.t, err, "%s\n%s", strings.Join(args, " "), out)
}

func (s spaces) in(space string, args ...string) {
	s.t.Helper()
	s.run(append([]string{"ip", "netns", "exec", s.name(space)}, args...)...)
}

func (s spaces) make(list ...string) {
	for _, space := range list {
		s.run("ip", "netns", "add", s.name(space))
		s.t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", s.name(space)).Run() })
		s.in(space, "ip", "link", "set", "lo", "up")
		s.in(space, "sysctl", "-qw", "net.ipv4.ip_forward=1")
	}
}

// join connects two spaces; an end is "space interface address/bits".
func (s spaces) join(a, b string) {
	ends := [2][]string{strings.Fields(a), strings.Fields(b)}
	s.run("ip", "link", "add", "ink0"+s.suffix, "type", "veth", "peer", "name", "ink1"+s.suffix)
	for i, e := range ends {
		was := fmt.Sprintf("ink%d%s", i, s.suffix)
		s.run("ip", "link", "set", was, "netns", s.name(e[0]))
		s.in(e[0], "ip", "link", "set", was, "name", e[1])
		s.in(e[0], "ip", "addr", "add", e[2], "dev", e[1])
		s.in(e[0], "ip", "link", "set", e[1], "up")
	}
}

// translate has a space translate what leaves by an interface.
func (s spaces) translate(space, by string) {
	s.in(space, "nft", "add table ip inknat; add chain ip inknat post { type nat hook postrouting priority 110; }; add rule ip inknat post oifname "+by+" masquerade")
}

// serve runs a program in a space until the test ends.
func (s spaces) serve(space string, args ...string) {
	s.t.Helper()
	cmd := exec.Command("ip", append([]string{"netns", "exec", s.name(space)}, args...)...)
	log, err := os.Create(filepath.Join(s.t.TempDir(), "log"))
	require.NoError(s.t, err)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(s.t, cmd.Start())
	s.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = log.Close()
		if s.t.Failed() {
			text, _ := os.ReadFile(log.Name())
			s.t.Logf("%s: %s", args[0], text)
		}
	})
}

// learn has the machine on the LAN ask all its sources, until ready is content with what it learns.
func (s spaces) learn(ready func(learned) bool) (out learned) {
	s.t.Helper()
	file := filepath.Join(s.t.TempDir(), "learned")
	self, err := os.Executable()
	require.NoError(s.t, err)
	until := time.Now().Add(30 * time.Second)
	for {
		cmd := exec.Command("ip", "netns", "exec", s.name("lan"), self, "-test.run", "^TestLearnInside$")
		cmd.Env = append(os.Environ(), asked+"="+file)
		text, err := cmd.CombinedOutput()
		require.NoError(s.t, err, string(text))
		doc, err := os.ReadFile(file)
		require.NoError(s.t, err)
		require.NoError(s.t, json.Unmarshal(doc, &out))
		if ready(out) || time.Now().After(until) {
			return out
		}
	}
}

func needRoot(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root may make network namespaces: kernel NAT, miniupnpd and coturn are not tried")
	}
	for _, program := range []string{"miniupnpd", "turnserver", "nft", "ip"} {
		_, err := exec.LookPath(program)
		require.NoError(t, err, "install it: make install-test")
	}
}

// site makes a LAN with its router, and outside; the router's WAN side has an address of whoever is in front of it.
func newSite(t *testing.T, routerWAN, front string) spaces {
	t.Helper()
	needRoot(t)
	s := spaces{t, fmt.Sprintf("%x", time.Now().UnixNano()&0xfffff)}
	s.make("lan", "router", "out")
	s.join("lan lan0 "+machine+"/24", "router lan "+lanSide+"/24")
	s.in("lan", "ip", "route", "add", "default", "via", lanSide)
	if front == "" {
		s.join("router wan "+routerWAN+"/24", "out wan "+outside+"/24")
		s.in("router", "ip", "route", "add", "default", "via", outside)
	} else {
		s.make("front")
		s.join("router wan "+routerWAN+"/24", "front lan "+front+"/24")
		s.join("front wan "+public+"/24", "out wan "+outside+"/24")
		s.in("router", "ip", "route", "add", "default", "via", front)
		s.translate("front", "wan")
	}
	s.translate("router", "wan")
	s.in("router", "nft", "add table inet filter; add chain inet filter miniupnpd; add chain inet filter prerouting_miniupnpd; add chain inet filter postrouting_miniupnpd; "+
		"add chain inet filter prerouting { type nat hook prerouting priority -100; }; add rule inet filter prerouting jump prerouting_miniupnpd")
	dir := t.TempDir()
	config := filepath.Join(dir, "router.conf")
	require.NoError(t, os.WriteFile(config, []byte("ext_ifname=wan\nlistening_ip=lan\nenable_natpmp=yes\nenable_upnp=yes\nsecure_mode=yes\nport=0\nsystem_uptime=yes\n"+
		"uuid=7b6b1a3c-0000-4000-8000-0000000000"+fmt.Sprintf("%02x", os.Getpid()&0xff)+"\nallow 1024-65535 192.168.7.0/24 1024-65535\ndeny 0-65535 0.0.0.0/0 0-65535\n"+
		"upnp_table_name=filter\nupnp_nat_table_name=filter\nupnp_forward_chain=miniupnpd\nupnp_nat_chain=prerouting_miniupnpd\nupnp_nat_postrouting_chain=postrouting_miniupnpd\n"), 0o600))
	s.serve("router", "miniupnpd", "-d", "-f", config, "-P", filepath.Join(dir, "pid"))
	s.serve("out", "turnserver", "-n", "-S", "--listening-ip", outside, "--listening-port", stunPort, "--no-cli", "--no-tls", "--no-dtls", "--log-file", "stdout", "--pidfile", filepath.Join(dir, "turn.pid"), "--db", filepath.Join(dir, "turn.db"))
	return s
}

func (l learned) of(kind wan.Source) map[string]wan.Report {
	out := map[string]wan.Report{}
	for _, r := range l.Reports {
		if r.Source == kind {
			out[r.Via] = r
		}
	}
	return out
}

// judged is what the core makes of what was learned, beside what a server outside sees.
func (l learned) judged() wan.Judgement {
	return wan.Weigh(wan.Weighing{Now: time.Now(), Reports: append(l.Reports, wan.Report{Source: wan.SourceObserved, Addresses: wan.PairOf(netip.MustParseAddr(public)), At: time.Now()}), Chain: l.Chain})
}

func TestARouterWithThePublicAddress(t *testing.T) {
	t.Parallel()
	s := newSite(t, public, "")
	all := func(l learned) bool {
		return len(l.of(wan.SourceGateway)) == 3 && l.of(wan.SourceSTUN)[outside+":"+stunPort].Problem == ""
	}
	l := s.learn(all)
	require.Equal(t, public, l.of(wan.SourceSTUN)[outside+":"+stunPort].Addresses.String(), "%+v", l)
	for _, via := range []string{"PCP", "NAT-PMP", "IGD"} {
		require.Equal(t, public, l.of(wan.SourceGateway)[via].Addresses.String(), "%s: %+v", via, l)
	}
	require.Equal(t, machine, l.of(wan.SourceInterface)["lan0"].Addresses.String())
	j := l.judged()
	require.Equal(t, wan.NATDirect, j.NAT.Verdict)
	require.Equal(t, public, j.Addresses.String())

	// The provider gives another address: STUN and the router say so.
	s.in("router", "ip", "addr", "del", public+"/24", "dev", "wan")
	s.in("router", "ip", "addr", "add", public2+"/24", "dev", "wan")
	s.in("router", "ip", "route", "replace", "default", "via", outside)
	l = s.learn(func(l learned) bool { return l.of(wan.SourceGateway)["NAT-PMP"].Addresses.String() == public2 })
	require.Equal(t, public2, l.of(wan.SourceGateway)["NAT-PMP"].Addresses.String())
	require.Equal(t, public2, l.of(wan.SourceSTUN)[outside+":"+stunPort].Addresses.String())
}

func TestAModemInFrontOfTheRouter(t *testing.T) {
	t.Parallel()
	s := newSite(t, "192.168.1.23", "192.168.1.1")
	l := s.learn(func(l learned) bool {
		return l.of(wan.SourceSTUN)[outside+":"+stunPort].Problem == "" && len(l.Chain) > 1
	})
	require.Equal(t, public, l.of(wan.SourceSTUN)[outside+":"+stunPort].Addresses.String(), "%+v", l)
	j := l.judged()
	require.Equal(t, wan.NATDouble, j.NAT.Verdict, "%+v", l)
	require.Contains(t, j.NAT.Words, "192.168.1.1")
	require.Equal(t, []netip.Addr{netip.MustParseAddr(lanSide), netip.MustParseAddr("192.168.1.1")}, j.NAT.Chain)
	require.Equal(t, public, j.Addresses.String(), "the router's private address moves nothing")
}

func TestAProviderThatTranslates(t *testing.T) {
	t.Parallel()
	s := newSite(t, "100.64.7.9", "100.64.7.1")
	l := s.learn(func(l learned) bool {
		return l.of(wan.SourceSTUN)[outside+":"+stunPort].Problem == "" && len(l.Chain) > 1
	})
	j := l.judged()
	require.Equal(t, wan.NATCarrier, j.NAT.Verdict, "%+v", l)
	require.Contains(t, j.NAT.Words, "100.64.7.")
	require.Equal(t, public, j.Addresses.String())
}

func TestTheKernelTellsOfAnotherAddressAtOnce(t *testing.T) {
	needRoot(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	heard := make(chan time.Time, 100)
	ended := make(chan error, 1)
	go func() { ended <- source.Changes(ctx, func() { heard <- time.Now() }) }()
	name := fmt.Sprintf("ink%x", time.Now().UnixNano()&0xfffff)
	s := spaces{t, ""}
	s.run("ip", "link", "add", name, "type", "veth", "peer", "name", name+"p")
	t.Cleanup(func() { _ = exec.Command("ip", "link", "del", name).Run() })
	s.run("ip", "link", "set", name, "up")
	require.Eventually(t, func() bool { // until the subscription stands
		s.run("ip", "addr", "add", "192.0.2.77/32", "dev", name)
		s.run("ip", "addr", "del", "192.0.2.77/32", "dev", name)
		return len(heard) > 0
	}, 5*time.Second, 50*time.Millisecond)
	stop()
	require.NoError(t, <-ended)
}
