package agent_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/testbed"
)

// start runs an agent until the test ends.
func start(t *testing.T, o agent.Options) (ended chan error) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	ended = make(chan error, 1)
	done := make(chan bool)
	go func() { ended <- agent.Run(ctx, o); close(done) }()
	t.Cleanup(func() { stop(); <-done })
	return ended
}

func await(t *testing.T, what string, ready func() bool) {
	t.Helper()
	require.Eventually(t, ready, 20*time.Second, 20*time.Millisecond, what)
}

func standing(t *testing.T, s *testbed.Service) contract.LinkReport {
	t.Helper()
	l, err := s.Client.Link(context.Background(), "KET-07", "main")
	require.NoError(t, err)
	if l.Report == nil {
		return contract.LinkReport{}
	}
	return *l.Report
}

func TestAnAgentTellsAllItsSourcesAndItsStatus(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.1")
	state := filepath.Join(t.TempDir(), "agent")
	start(t, agent.Options{Server: s.URL, Code: site(t, s), StateDir: state, Dial: w.dial, Version: "test",
		Fixed: []netip.Addr{netip.MustParseAddr("127.111.9.9")}})
	await(t, "the sources are told", func() bool { return len(standing(t, s).Sources) >= 4 })
	said := map[wan.Source]contract.LinkSource{}
	for _, r := range standing(t, s).Sources {
		said[r.Source] = r
	}
	require.Equal(t, "127.111.5.1", said[wan.SourceObserved].Addresses)
	require.Equal(t, "127.111.5.1", said[wan.SourceSTUN].Addresses, "Ink Post's own STUN responder is asked without being named")
	require.Contains(t, said[wan.SourceFixed].Dissent, "was entered as fixed")
	require.NotEmpty(t, said[wan.SourceGateway].Problem)
	require.Equal(t, wan.NATUnknown, standing(t, s).NAT)

	// An operator types the router's WAN address, and the verdict follows with the next announcement.
	_, err := s.Client.EditLink(t.Context(), "KET-07", "main", map[string]any{"router_address": "192.168.1.23"})
	require.NoError(t, err)
	w.move("127.111.5.2")
	awaitAddress(t, s, "127.111.5.2")
	await(t, "the verdict follows", func() bool { return standing(t, s).NAT == wan.NATDouble })
	require.Len(t, standing(t, s).Remedies, 3)

	await(t, "the status is written", func() bool {
		list, err := agent.ReadStatus(state)
		return err == nil && list[0].Answer.New == "127.111.5.2" && list[0].Answer.NAT == wan.NATDouble && list[0].Site == "KET-07"
	})
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "stun", moves[0].Source, "the cheap check noticed")
}

func TestACommandRunsAfterAChange(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.3")
	out := filepath.Join(t.TempDir(), "told")
	start(t, agent.Options{Server: s.URL, Code: site(t, s), StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial,
		After: []string{"/bin/sh", "-c", `printf '%s' "$1 $INKPOST_LINK $INKPOST_OLD_IPV4 $INKPOST_NEW_IPV4" > "` + out +
			`.new"; mv "` + out + `.new" "` + out + `"`, "sh", "$(id); literally"}})
	awaitAddress(t, s, "127.111.5.3")
	w.move("127.111.5.4")
	await(t, "the command has run", func() bool {
		doc, err := os.ReadFile(out)
		return err == nil && string(doc) == "$(id); literally main 127.111.5.3 127.111.5.4"
	})
}

func TestAResolverThatFailsIsToldApartFromADeadLink(t *testing.T) {
	s := testbed.Start(t, nil)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	w := &way{}
	w.move("127.111.5.5")
	var broken atomic.Bool
	start(t, agent.Options{Server: "http://post.saltmarsh.example:" + port, Code: site(t, s),
		StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial,
		Lookup: func(context.Context, string) ([]netip.Addr, error) {
			if broken.Load() {
				return nil, &net.DNSError{Err: "server misbehaving"}
			}
			return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
		}})
	awaitAddress(t, s, "127.111.5.5")
	broken.Store(true)
	w.move("127.111.5.6")
	awaitAddress(t, s, "127.111.5.6") // by the address that the name had last
	await(t, "the resolver is at fault", func() bool { return strings.Contains(standing(t, s).Resolver, "server misbehaving") })
	await(t, "a fault says so", func() bool {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		return err == nil && len(list) == 1 && list[0].Finding.Cause == "site-resolver"
	})
}

func TestAnAgentWhoseClockIsWrongIsRefusedAndGoesOnWhenItIsRight(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.7")
	var off atomic.Int64
	off.Store(int64(2 * time.Hour))
	state := filepath.Join(t.TempDir(), "agent")
	start(t, agent.Options{Server: s.URL, Code: site(t, s), StateDir: state, Dial: w.dial,
		Now: func() time.Time { return time.Now().Add(time.Duration(off.Load())) }})
	await(t, "the site learns why", func() bool {
		r := standing(t, s).Refused
		return len(r) == 1 && strings.Contains(r[0].Reason, "the clock at the site is 2h0m0s ahead of the server's")
	})
	await(t, "the agent learns why", func() bool {
		list, err := agent.ReadStatus(state)
		return err == nil && strings.Contains(list[0].Trouble, "set it, best by NTP")
	})
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.False(t, l.Addresses().Known(), "nothing is taken from it meanwhile")
	off.Store(0)
	awaitAddress(t, s, "127.111.5.7")
}

// lan is a LAN that the test makes up.
type lan struct {
	table []agent.Neighbour
	ports map[string]string // by "address:port/transport"
	tried chan string
}

func (l lan) Neighbours(context.Context) ([]agent.Neighbour, error) { return l.table, nil }
func (l lan) Cannot() []string                                      { return []string{"open ports below 1024"} }
func (l lan) Try(_ context.Context, p contract.WatchedPort, at netip.AddrPort) contract.PortSeen {
	l.tried <- at.String() + "/" + p.Transport
	if state := l.ports[at.String()+"/"+p.Transport]; state != "" {
		return contract.PortSeen{State: state}
	}
	return contract.PortSeen{State: "silent"}
}

// prefixed is a LAN with one device, whose IPv6 address the test sets.
type prefixed struct{ six *atomic.Value }

func (p prefixed) Neighbours(context.Context) ([]agent.Neighbour, error) {
	return []agent.Neighbour{{Address: netip.MustParseAddr(p.six.Load().(string)), MAC: "02:00:5e:07:00:01"},
		{Address: netip.MustParseAddr("192.168.7.20"), MAC: "02:00:5e:07:00:01"}}, nil
}
func (prefixed) Cannot() []string { return nil }
func (prefixed) Try(context.Context, contract.WatchedPort, netip.AddrPort) contract.PortSeen {
	return contract.PortSeen{State: "open"}
}

func TestAnAgentWithSeveralInterfacesTellsWhichLinkIsDown(t *testing.T) {
	s := testbed.Start(t, func(o *testbed.Options) { o.CheckEvery = 3 * time.Second })
	code := site(t, s)
	_, err := s.Client.AddLink(t.Context(), "KET-07", contract.LinkInput{Label: "backup", Position: 2})
	require.NoError(t, err)
	inv, err := s.Client.Invite(t.Context(), "KET-07", "backup", testbed.Public...)
	require.NoError(t, err)
	_, err = s.Client.AddZone(t.Context(), contract.ZoneInput{Apex: "isles.example", Servers: []string{"ns.isles.example=127.0.0.1"}})
	require.NoError(t, err)
	_, err = s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "ket-07.isles.example", Site: "KET-07"})
	require.NoError(t, err)
	cable, mobile := &way{}, &way{}
	cable.move("127.111.5.30")
	mobile.move("127.113.5.30")
	state := filepath.Join(t.TempDir(), "agent")
	start(t, agent.Options{Server: s.URL, StateDir: state,
		Links: []agent.LinkOptions{{Interface: "eth0", Code: code, Dial: cable.dial},
			{Interface: "wwan0", Code: inv.Code, Dial: mobile.dial}}})
	at := func(want string) func() bool {
		return func() bool {
			h, err := s.Client.Hostname(context.Background(), "ket-07.isles.example")
			return err == nil && h.IPv4.String() == want
		}
	}
	await(t, "the preferred link is followed", at("127.111.5.30"))
	awaitOther := func() bool {
		l, err := s.Client.Link(context.Background(), "KET-07", "backup")
		return err == nil && l.IPv4.String() == "127.113.5.30"
	}
	await(t, "the other link is known", awaitOther)
	cable.cut.Store(true)
	await(t, "names follow the link that works", at("127.113.5.30"))
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.True(t, l.Failing)
	list, err := agent.ReadStatus(state)
	require.NoError(t, err)
	require.Len(t, list, 2, "status tells of each link")
}

func TestANewAgentSpeaksToAnOldServer(t *testing.T) {
	s := testbed.Start(t, func(o *testbed.Options) {
		o.Policy.StandIns = append(o.Policy.StandIns, netip.MustParsePrefix("127.0.0.0/8"))
	})
	behind, err := url.Parse(s.URL)
	require.NoError(t, err)
	// An old server tells no protocol, and has no use for what it does not know.
	old := httputil.NewSingleHostReverseProxy(behind)
	old.ModifyResponse = func(r *http.Response) error {
		if !strings.HasSuffix(r.Request.URL.Path, "/agent/observed") {
			return nil
		}
		var o map[string]any
		if err := json.NewDecoder(r.Body).Decode(&o); err != nil {
			return err
		}
		doc, err := json.Marshal(map[string]any{"address": "127.111.5.40", "check_seconds": o["check_seconds"]})
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(string(doc))), int64(len(doc))
		r.Header.Set("Content-Length", strconv.Itoa(len(doc)))
		return err
	}
	var foreign atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/agent/announcements") {
			doc, err := io.ReadAll(r.Body)
			if err != nil || strings.Contains(string(doc), "reports") || strings.Contains(string(doc), "protocol") {
				foreign.Add(1)
			}
			r.Body = io.NopCloser(strings.NewReader(string(doc)))
		}
		old.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close) // after the agent, which waits for its orders there
	start(t, agent.Options{Server: server.URL, Code: site(t, s), StateDir: filepath.Join(t.TempDir(), "agent")})
	awaitAddress(t, s, "127.0.0.1")
	require.Zero(t, foreign.Load())
}

func TestAPathIsProvenWithoutTheDevice(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.10")
	code := site(t, s)
	_, err := s.Client.Prove(t.Context(), "KET-07", contract.ProofInput{Transport: "tcp", External: 40123})
	require.ErrorContains(t, err, "the address of link main is not known yet")
	start(t, agent.Options{Server: s.URL, Code: code, StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial,
		Log: slog.New(slog.DiscardHandler)})
	awaitAddress(t, s, "127.111.5.10")
	for _, transport := range []string{"tcp", "udp"} {
		free, err := net.ListenPacket("udp", ":0")
		require.NoError(t, err)
		port := free.LocalAddr().(*net.UDPAddr).Port
		require.NoError(t, free.Close())
		p, err := s.Client.Prove(t.Context(), "KET-07", contract.ProofInput{Transport: transport, External: port})
		require.NoError(t, err)
		require.True(t, p.Proven, p.Words)
		p, err = s.Client.Prove(t.Context(), "KET-07", contract.ProofInput{Transport: transport, External: port, Port: port + 1})
		require.NoError(t, err)
		require.False(t, p.Proven, "what is sent to another port does not arrive")
		require.Contains(t, p.Next, "forward "+transport)
	}
	taken, err := net.Listen("tcp", ":0")
	require.NoError(t, err)
	defer taken.Close()
	_, err = s.Client.Prove(t.Context(), "KET-07", contract.ProofInput{External: taken.Addr().(*net.TCPAddr).Port})
	require.ErrorContains(t, err, "choose another internal port")
	_, err = s.Client.Prove(t.Context(), "KET-07", contract.ProofInput{External: 70000, Transport: "sctp"})
	require.ErrorContains(t, err, "it is tcp or udp")
}

func TestAFullDiskStopsNothing(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.11")
	state := filepath.Join(t.TempDir(), "agent")
	o := agent.Options{Server: s.URL, Code: site(t, s), StateDir: state, Dial: w.dial}
	require.NoError(t, agent.Enrol(t.Context(), o))
	before, err := os.ReadFile(filepath.Join(state, "agent.json"))
	require.NoError(t, err)
	// A folder where the new file should come stands for a disk that takes nothing more.
	for _, name := range []string{"agent.json.new", "status.json.new"} {
		require.NoError(t, os.Mkdir(filepath.Join(state, name), 0o700))
	}
	start(t, o)
	awaitAddress(t, s, "127.111.5.11")
	w.move("127.111.5.12")
	awaitAddress(t, s, "127.111.5.12")
	after, err := os.ReadFile(filepath.Join(state, "agent.json"))
	require.NoError(t, err)
	require.Equal(t, before, after, "the key is still there")
	var kept map[string]any
	require.NoError(t, json.Unmarshal(after, &kept))
}

func TestAConfigurationIsReadAnewWithoutARestart(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.13")
	reload := make(chan agent.Options)
	o := agent.Options{Server: s.URL, Code: site(t, s), StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial, Reload: reload}
	ended := start(t, o)
	awaitAddress(t, s, "127.111.5.13")
	o.Sources = []string{"observed", "fixed"}
	o.Fixed = []netip.Addr{netip.MustParseAddr("127.111.5.14")}
	reload <- o
	await(t, "the new sources are used", func() bool {
		list := standing(t, s).Sources
		return len(list) == 2 && list[1].Source == wan.SourceFixed
	})
	require.Empty(t, ended)
}

func TestAStatusThatIsNotThereSaysWhatToDo(t *testing.T) {
	_, err := agent.ReadStatus(t.TempDir())
	require.ErrorContains(t, err, "inkpost agent run")
	require.False(t, errors.Is(err, os.ErrNotExist))
}
