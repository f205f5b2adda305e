package source_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// What stands behind real kernel NAT is tried in network namespaces of the test's own: a machine on a LAN, its router with
// miniupnpd, perhaps a second device that translates in front of it, and a STUN server (coturn) outside. miniupnpd refuses special
// addresses on its WAN side, and so outside has one that is not special; the namespaces have no way out.
const (
	outside  = spaces.Outside
	public   = spaces.Public
	public2  = "1.2.3.8"
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
	for _, s := range []source.Source{source.STUN{Network: n, Servers: []string{outside + ":" + stunPort}}, source.NewGateway(n),
		source.Interface{Name: "lan0"}} {
		out.Reports = append(out.Reports, s.Learn(t.Context())...)
	}
	out.Chain = source.Hops(t.Context(), netip.MustParseAddr(outside))
	doc, err := json.Marshal(out)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, doc, 0o600))
}

// site is the network of a test.
type site struct {
	*spaces.Site
	t *testing.T
}

// learn has the machine on the LAN ask all its sources, until ready is content with what it learns.
func (s site) learn(ready func(learned) bool) (out learned) {
	s.t.Helper()
	file := filepath.Join(s.t.TempDir(), "learned")
	self, err := os.Executable()
	require.NoError(s.t, err)
	until := time.Now().Add(30 * time.Second)
	for {
		cmd := exec.Command("ip", "netns", "exec", s.Name("lan"), self, "-test.run", "^TestLearnInside$")
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

func newSite(t *testing.T, b spaces.Behind) site {
	t.Helper()
	s := spaces.NewSite(spaces.New(t, "miniupnpd", "turnserver"), b)
	dir := t.TempDir()
	s.Serve("out", "turnserver", "-n", "-S", "--listening-ip", spaces.Outside, "--listening-port", stunPort, "--no-cli", "--no-tls",
		"--no-dtls", "--log-file", "stdout",
		"--pidfile", filepath.Join(dir, "turn.pid"), "--db", filepath.Join(dir, "turn.db"))
	return site{s, t}
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
	return wan.Weigh(wan.Weighing{Now: time.Now(),
		Reports: append(l.Reports, wan.Report{Source: wan.SourceObserved, Addresses: wan.PairOf(netip.MustParseAddr(public)),
			At: time.Now()}), Chain: l.Chain})
}

func TestARouterWithThePublicAddress(t *testing.T) {
	t.Parallel()
	s := newSite(t, spaces.Direct)
	all := func(l learned) bool {
		return l.of(wan.SourceGateway)["NAT-PMP"].Problem == "" && l.of(wan.SourceSTUN)[outside+":"+stunPort].Problem == ""
	}
	l := s.learn(all)
	require.Equal(t, public, l.of(wan.SourceSTUN)[outside+":"+stunPort].Addresses.String(), "%+v", l)
	require.Len(t, l.of(wan.SourceGateway), 1, "one answer is enough: no other protocol is spoken")
	require.Equal(t, public, l.of(wan.SourceGateway)["NAT-PMP"].Addresses.String(), "%+v", l)
	require.Equal(t, spaces.Machine, l.of(wan.SourceInterface)["lan0"].Addresses.String())
	j := l.judged()
	require.Equal(t, wan.NATDirect, j.NAT.Verdict)
	require.Equal(t, public, j.Addresses.String())

	// The provider gives another address: STUN and the router say so.
	s.MoveTo(public2)
	l = s.learn(func(l learned) bool { return l.of(wan.SourceGateway)["NAT-PMP"].Addresses.String() == public2 })
	require.Equal(t, public2, l.of(wan.SourceGateway)["NAT-PMP"].Addresses.String())
	require.Equal(t, public2, l.of(wan.SourceSTUN)[outside+":"+stunPort].Addresses.String())
}

func TestAModemInFrontOfTheRouter(t *testing.T) {
	t.Parallel()
	s := newSite(t, spaces.BehindModem)
	l := s.learn(func(l learned) bool {
		return l.of(wan.SourceSTUN)[outside+":"+stunPort].Problem == "" && len(l.Chain) > 1
	})
	require.Equal(t, public, l.of(wan.SourceSTUN)[outside+":"+stunPort].Addresses.String(), "%+v", l)
	j := l.judged()
	require.Equal(t, wan.NATDouble, j.NAT.Verdict, "%+v", l)
	require.Contains(t, j.NAT.Words, "192.168.1.1")
	require.Equal(t, []netip.Addr{netip.MustParseAddr(spaces.Router), netip.MustParseAddr("192.168.1.1")}, j.NAT.Chain)
	require.Equal(t, public, j.Addresses.String(), "the router's private address moves nothing")
}

func TestAProviderThatTranslates(t *testing.T) {
	t.Parallel()
	s := newSite(t, spaces.BehindMiddle)
	l := s.learn(func(l learned) bool {
		return l.of(wan.SourceSTUN)[outside+":"+stunPort].Problem == "" && len(l.Chain) > 1
	})
	j := l.judged()
	require.Equal(t, wan.NATCarrier, j.NAT.Verdict, "%+v", l)
	require.Contains(t, j.NAT.Words, "100.64.7.")
	require.Equal(t, public, j.Addresses.String())
}

func TestTheKernelTellsOfAnotherAddressAtOnce(t *testing.T) {
	s := spaces.New(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	heard := make(chan time.Time, 100)
	ended := make(chan error, 1)
	go func() { ended <- source.Changes(ctx, func() { heard <- time.Now() }) }()
	name := fmt.Sprintf("ink%x", time.Now().UnixNano()&0xfffff)
	s.Run("ip", "link", "add", name, "type", "veth", "peer", "name", name+"p")
	t.Cleanup(func() { _ = exec.Command("ip", "link", "del", name).Run() })
	s.Run("ip", "link", "set", name, "up")
	require.Eventually(t, func() bool { // until the subscription stands
		s.Run("ip", "addr", "add", "192.0.2.77/32", "dev", name)
		s.Run("ip", "addr", "del", "192.0.2.77/32", "dev", name)
		return len(heard) > 0
	}, 5*time.Second, 50*time.Millisecond)
	stop()
	require.NoError(t, <-ended)
}
