// Package guest_test has the whole program run between network namespaces: the service outside, the agent on a machine of a site's
// LAN, behind real kernel NAT and a real gateway daemon.
package guest_test

import (
	"context"
	"flag"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

type collect = assert.CollectT

// TestMain has many tests run side by side: they wait, and compute little.
func TestMain(m *testing.M) {
	flag.Parse()
	_ = flag.Set("test.parallel", "8")
	testbed.Main(m)
}

const (
	code   = "KET-07"
	name   = "ket-07.isles.saltmarsh.example"
	api    = "http://" + spaces.Outside + ":8460"
	naming = spaces.Outside + ":8453"
)

// place is a site, with the service outside it and the agent in it.
type place struct {
	t testing.TB
	*spaces.Site
	*client.Client
	agent    *spaces.Process
	command  []string // of the agent, once it has enrolled
	service  *spaces.Process
	database string
	flags    []string
}

// settle builds a site and starts the service outside it.
func settle(t testing.TB, b spaces.Behind, flags ...string) *place {
	t.Helper()
	p := &place{t: t, Site: spaces.NewSite(spaces.New(t, "miniupnpd"), b), database: testbed.Database(t), flags: flags}
	p.serve()
	p.signIn()
	ctx := t.Context()
	_, err := p.AddZone(ctx, contract.ZoneInput{Apex: testbed.Zone, Servers: []string{"ns1." + testbed.Zone + "=" + spaces.Outside}})
	require.NoError(t, err)
	_, err = p.AddSite(ctx, contract.SiteInput{Code: code, Name: "Kettle Quay 7"})
	require.NoError(t, err)
	_, err = p.AddLink(ctx, code, contract.LinkInput{Label: "main", Provider: "Kettle Cable"})
	require.NoError(t, err)
	_, err = p.AddHostname(ctx, contract.HostnameInput{Name: name, Site: code})
	require.NoError(t, err)
	return p
}

var oneTime = regexp.MustCompile(`One-time password of owner: (\S+)`)

// serve starts the service; again after it was killed.
func (p *place) serve() {
	p.t.Helper()
	p.service = p.Serve("out", append([]string{testbed.Program(p.t), "serve", "--database-url", p.database, "--http",
		spaces.Outside + ":8460", "--dns", naming,
		"--stun", spaces.Outside + ":8478", "--redirect", "", "--state-dir", p.t.TempDir(), "--log-level", "warn", "--key-rate",
		"100"}, p.flags...)...)
	require.Eventually(p.t, func() bool { return strings.Contains(p.service.Says(), "Console and API at") }, 60*time.Second,
		50*time.Millisecond)
}

func (p *place) signIn() {
	p.t.Helper()
	over := client.WithHTTP(&http.Client{Transport: &http.Transport{DialContext: p.Dial("out")}, Timeout: 20 * time.Second})
	anonymous, err := client.New(api, "", over)
	require.NoError(p.t, err)
	m := oneTime.FindStringSubmatch(p.service.Says())
	require.NotNil(p.t, m, p.service.Says())
	visit, err := anonymous.SignIn(p.t.Context(), "owner", m[1])
	require.NoError(p.t, err)
	require.NoError(p.t, visit.SetPassword(p.t.Context(), "slipway-gannet-kettle"))
	key, err := visit.AddKey(p.t.Context(), "test")
	require.NoError(p.t, err)
	p.Client, err = client.New(api, key.Secret, over)
	require.NoError(p.t, err)
}

// work starts the agent in the site, and waits until the link has its address.
func (p *place) work(flags ...string) {
	p.t.Helper()
	inv, err := p.Invite(p.t.Context(), code, "main")
	require.NoError(p.t, err)
	state := append([]string{"--state", filepath.Join(p.t.TempDir(), "agent"), "--log-level", "debug"}, flags...)
	run := []string{testbed.Program(p.t), "agent", "run"}
	p.command = append(run, state...)
	p.agent = p.Serve("lan", slices.Concat(run, []string{"--server", api, "--code", inv.Code}, state)...)
	p.awaitName(p.WAN, 30*time.Second)
}

// stand has a peer answer at an address of a space until the test ends, or stop is called.
func (p *place) stand(space string, who peer.Peer, at string) (stop func()) {
	p.t.Helper()
	var l net.Listener
	require.NoError(p.t, p.Within(space, func() (err error) {
		l, err = net.Listen("tcp", at)
		return err
	}))
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go who.Serve(c)
		}
	}()
	stop = func() { _ = l.Close() }
	p.t.Cleanup(stop)
	return stop
}

// expose puts a device with one forwarded service on record, and its stand-in on the machine of the agent.
func (p *place) expose(service string, port int, kind probe.Kind) {
	p.t.Helper()
	at := fmt.Sprintf("%s:%d", spaces.Machine, port)
	p.stand("lan", peer.Peer{Kind: kind, Name: service}, at)
	p.Forward(port, at)
	_, err := p.AddService(p.t.Context(), code, contract.ServiceInput{Name: service, Device: "recorder", Kind: string(kind),
		External: fmt.Sprint(port), Interval: 10})
	require.NoError(p.t, err)
	require.EventuallyWithT(p.t, func(c *collect) {
		got, err := p.Service(context.Background(), code, service)
		require.NoError(c, err)
		require.Equal(c, probe.StateReachable, got.State, got.Message)
		require.NotEmpty(c, got.Fingerprint)
	}, 20*time.Second, 100*time.Millisecond)
}

// answers gives what the hosted zone answers for the site's hostname.
func (p *place) answers(qtype uint16) string {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	c, err := p.Dial("out")(ctx, "udp", naming)
	if err != nil {
		return ""
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(time.Second))
	asking := dns.Conn{Conn: c}
	if asking.WriteMsg(new(dns.Msg).SetQuestion(name+".", qtype)) != nil {
		return ""
	}
	r, err := asking.ReadMsg()
	if err != nil {
		return ""
	}
	for _, rr := range r.Answer {
		switch rr := rr.(type) {
		case *dns.A:
			return rr.A.String()
		case *dns.AAAA:
			return netip.MustParseAddr(rr.AAAA.String()).String()
		}
	}
	return ""
}

// awaitName waits until the hosted zone answers an address, and says how long that took.
func (p *place) awaitName(address string, within time.Duration) time.Duration {
	p.t.Helper()
	began, qtype := time.Now(), dns.TypeA
	if strings.Contains(address, ":") {
		qtype = dns.TypeAAAA
	}
	got := ""
	require.Eventually(p.t, func() bool { got = p.answers(qtype); return got == address }, within, 10*time.Millisecond,
		"the name leads to %q instead of %s", &got, address)
	return time.Since(began)
}

// serious lists the serious faults that were ever opened.
func (p *place) serious() []string {
	p.t.Helper()
	list, err := p.Faults(p.t.Context(), code, false)
	require.NoError(p.t, err)
	out := []string{}
	for _, f := range list {
		if f.Finding.Serious() {
			out = append(out, fmt.Sprintf("%s %s: %s", f.Opened.Format("15:04:05.0"), f.Finding.Key(),
				strings.Join(f.Finding.Evidence, "; ")))
		}
	}
	return out
}

func mustPrefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }
