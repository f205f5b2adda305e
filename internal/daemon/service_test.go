package daemon_test

import (
	"context"
	"net"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/vantage"
)

// stand runs a peer at an address; stop ends it.
func stand(t *testing.T, p peer.Peer, transport probe.Transport, at string) (stop func()) {
	t.Helper()
	l, err := p.Listen(transport, netip.MustParseAddrPort(at))
	require.NoError(t, err)
	done := false
	stop = func() {
		if !done {
			done = true
			_ = l.Close()
		}
	}
	t.Cleanup(stop)
	return stop
}

// atSite puts a site with one service of a kind on record.
func atSite(t *testing.T, s *testbed.Service, address string, in contract.ServiceInput) contract.Service {
	t.Helper()
	record(t, s, "KET-07")
	announce(t, enrol(t, s, "KET-07"), address)
	_, err := s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: "recorder", Address: "192.168.7.20"})
	require.NoError(t, err)
	in.Name, in.Device, in.Interval = "page", "recorder", 2
	svc, err := s.Client.AddService(t.Context(), "KET-07", in)
	require.NoError(t, err)
	return svc
}

func pinned(t *testing.T, s *testbed.Service) (got contract.Service) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		got, err = s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.Fingerprint != ""
	}, 5*time.Second, 20*time.Millisecond, "what is seen first is pinned")
	return got
}

func TestAStrangerIsToldAndPinnedByAPersonOnly(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	stop := stand(t, peer.Peer{Kind: probe.KindSSH, Name: "ours"}, probe.TCP, "127.110.5.1:8022")
	atSite(t, s, "127.110.5.1", contract.ServiceInput{External: "8022", Kind: "ssh"})
	awaitState(t, s, probe.Answered, probe.StateReachable, 5*time.Second)
	first := pinned(t, s)
	require.Equal(t, "first answer", first.PinnedBy)
	stop()
	stand(t, peer.Peer{Kind: probe.KindSSH, Name: "another"}, probe.TCP, "127.110.5.1:8022")
	// The agent is heard: the device is another, and the address is still the site's.
	require.Eventually(t, func() bool {
		s.Engine().SiteSide.Observe(linkID(t, s, "KET-07"), netip.MustParseAddr("127.110.5.1"))
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.Outcome == probe.Stranger && got.State == probe.StateUnreachable
	}, 10*time.Second, 100*time.Millisecond)
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.EqualValues(c, "service-changed", list[0].Finding.Cause)
	}, 5*time.Second, 50*time.Millisecond)
	after, err := s.Client.Pin(t.Context(), "KET-07", "page", "")
	require.NoError(t, err)
	require.NotEqual(t, first.Fingerprint, after.Fingerprint)
	require.Equal(t, "owner", after.PinnedBy)
	awaitState(t, s, probe.Answered, probe.StateReachable, 5*time.Second)
	_, err = s.Client.Pin(t.Context(), "KET-07", "page", strings.Repeat("x", 201))
	require.ErrorContains(t, err, "more than 200")
}

func TestNobodyElsesDoorIsKnockedAt(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, func(o *options) { o.CheckEvery = 300 * time.Millisecond })
	stop := stand(t, peer.Peer{Kind: probe.KindSSH, Name: "ours"}, probe.TCP, "127.110.5.2:8022")
	atSite(t, s, "127.110.5.2", contract.ServiceInput{External: "8022", Kind: "ssh"})
	awaitState(t, s, probe.Answered, probe.StateReachable, 5*time.Second)
	pinned(t, s)
	stop()
	stand(t, peer.Peer{Kind: probe.KindSSH, Name: "somebody else"}, probe.TCP, "127.110.5.2:8022")
	var story contract.ProbeTrace
	require.Eventually(t, func() bool {
		var err error
		story, err = s.Client.ProbeNow(context.Background(), "KET-07", "page")
		return err == nil && story.Outcome == probe.Skipped
	}, 15*time.Second, 200*time.Millisecond, "the agent is silent, and another fingerprint is there: it is left alone")
	require.Contains(t, story.Attempts[0].Message, "127.110.5.2 appears to belong to someone else")
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.NotEmpty(c, list)
		require.EqualValues(c, "moved-unannounced", list[0].Finding.Cause)
		require.Contains(c, strings.Join(list[0].Finding.Evidence, "; "), "127.110.5.2 appears to belong to someone else")
	}, 8*time.Second, 50*time.Millisecond)
	s.Engine().SiteSide.Observe(linkID(t, s, "KET-07"), netip.MustParseAddr("127.110.5.2")) // the link is proven again
	story, err := s.Client.ProbeNow(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, probe.Stranger, story.Outcome)
}

func TestADoorOpenedForAWhileHasToCloseAgain(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "setup"}, probe.TCP, "127.110.5.3:8080")
	atSite(t, s, "127.110.5.3", contract.ServiceInput{External: "8080", Kind: "http", OpenUntil: time.Now().Add(3 * time.Second)})
	awaitState(t, s, probe.Answered, probe.StateReachable, 3*time.Second)
	awaitState(t, s, probe.Answered, probe.StateExposed, 10*time.Second)
	got, err := s.Client.Service(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, probe.ExpectClosed, got.ExpectedNow)
}

func TestSilenceOfAMutePortProvesNothing(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("127.110.5.4:7100")))
	require.NoError(t, err)
	atSite(t, s, "127.110.5.4", contract.ServiceInput{External: "7100", Kind: "udp"})
	require.Eventually(t, func() bool {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.Outcome == probe.Silent && got.NotProvable && got.State == probe.StateUnknown && got.Vantages[0].InRow > 3
	}, 12*time.Second, 50*time.Millisecond)
	list, err := s.Client.Faults(t.Context(), "KET-07", true)
	require.NoError(t, err)
	require.Empty(t, list, "neither up nor down")
	require.NoError(t, c.Close())
	awaitState(t, s, probe.Refused, probe.StateUnreachable, 10*time.Second)
}

func TestWireGuardIsProvenByAHandshake(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	p := peer.Peer{Kind: probe.KindWireGuard, Name: "gate"}
	svc := atSite(t, s, "127.110.5.5", contract.ServiceInput{External: "51820", Kind: "wireguard",
		Options: probe.Options{PeerKey: base64of(p.StaticKey())}})
	require.NotEmpty(t, svc.PeerKey)
	require.Equal(t, probe.UDP, svc.Transport, "the kind's usual transport")
	key, err := probe.WireGuardKey(svc.PeerKey)
	require.NoError(t, err)
	p.Keys = key
	stop := stand(t, p, probe.UDP, "127.110.5.5:51820")
	awaitState(t, s, probe.Answered, probe.StateReachable, 8*time.Second)
	stop()
	hole, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("127.110.5.5:51820")))
	require.NoError(t, err)
	t.Cleanup(func() { _ = hole.Close() })
	awaitState(t, s, probe.Silent, probe.StateUnreachable, 12*time.Second)
}

// lookout runs a vantage point against the service until stop.
func lookout(t *testing.T, s *testbed.Service, name, from string, references ...string) (stop func()) {
	t.Helper()
	inv, err := s.Client.InviteVantage(t.Context(), contract.VantageInput{Name: name})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	dir := t.TempDir()
	go func() {
		ended <- vantage.Run(ctx, vantage.Options{Server: s.URL, Code: inv.Code, StateDir: dir, From: netip.MustParseAddr(from),
			References: references})
	}()
	done := false
	stop = func() {
		if !done {
			done = true
			cancel()
			require.NoError(t, <-ended)
		}
	}
	t.Cleanup(stop)
	require.Eventually(t, func() bool { return vantageNamed(t, s, name).State == contract.VantageWorking }, 10*time.Second,
		50*time.Millisecond)
	return stop
}

func vantageNamed(t *testing.T, s *testbed.Service, name string) contract.Vantage {
	list, err := s.Client.Vantages(context.Background())
	require.NoError(t, err)
	for _, v := range list {
		if v.Name == name {
			return v
		}
	}
	return contract.Vantage{}
}

func viewFrom(s contract.Service, vantage string) contract.VantageResult {
	for _, v := range s.Vantages {
		if v.Vantage == vantage {
			return v
		}
	}
	return contract.VantageResult{}
}

// picky listens, and answers only those who come from an address.
func picky(t *testing.T, at, only string) {
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if c.RemoteAddr().(*net.TCPAddr).IP.String() != only {
				_, _ = c.Write([]byte("go away\r\n"))
				_ = c.Close()
				continue
			}
			go peer.Peer{Kind: probe.KindHTTP, Name: "page"}.Serve(c)
		}
	}()
}

func TestPortsOverBothTransportsAndConflicts(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	atSite(t, s, "127.110.5.9", contract.ServiceInput{External: "5060-5062", Internal: "5160", Kind: "sip", Transport: "both"})
	_, err := s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: "router", Address: "192.168.7.1", Router: true})
	require.NoError(t, err)
	for name, c := range map[string]struct {
		in   contract.ServiceInput
		says string
	}{
		"udp in a range of both": {contract.ServiceInput{Name: "a", Device: "recorder", External: "5061", Kind: "udp"},
			"UDP port 5061 of a overlaps 5060-5062 of page on device recorder"},
		"the router's own page": {contract.ServiceInput{Name: "b", Device: "router", External: "5060", Kind: "tcp",
			Expected: "closed"}, "is answered by the router itself (b, TCP port 5060): it cannot be passed on to recorder"},
		"kind over wrong transport": {contract.ServiceInput{Name: "c", Device: "recorder", External: "22", Kind: "ssh",
			Transport: "udp"}, "kind ssh does not run over UDP"},
		"option of another kind": {contract.ServiceInput{Name: "d", Device: "recorder", External: "22", Kind: "ssh",
			Options: probe.Options{Path: "/"}}, "kind ssh has no options"},
		"closed until": {contract.ServiceInput{Name: "e", Device: "recorder", External: "22", Expected: "closed",
			OpenUntil: time.Now().Add(time.Hour)}, "expect it reachable"},
		"unknown kind": {contract.ServiceInput{Name: "f", Device: "recorder", External: "22", Kind: "smoke"},
			`kind "smoke" is unknown`},
	} {
		_, err := s.Client.AddService(t.Context(), "KET-07", c.in)
		require.ErrorContains(t, err, c.says, name)
	}
	story, err := s.Client.ProbeNow(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Len(t, story.Attempts, 6, "three ports, each over TCP and UDP")
	cards, err := s.Client.Cards(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Len(t, cards, 1)
	fields := map[string]string{}
	for _, f := range cards[0].Fields {
		fields[f.Label] = f.Value
	}
	require.Equal(t, map[string]string{"Name": "page", "Protocol": "TCP and UDP", "External port": "5060-5062",
		"Internal address": "192.168.7.20", "Internal port": "5160-5162", "From": "any address"}, fields)
}

func TestAReviewLooksAtTheOwnAddressOnlyAndIsRecorded(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	stand(t, peer.Peer{Kind: probe.KindRDP, Name: "desk"}, probe.TCP, "127.110.5.10:3389")
	stand(t, peer.Peer{Kind: probe.KindTCP, Name: "telnet"}, probe.TCP, "127.110.5.10:2323")
	atSite(t, s, "127.110.5.10", contract.ServiceInput{External: "3389", Kind: "rdp"})
	awaitState(t, s, probe.Answered, probe.StateReachable, 5*time.Second)
	_, err := s.Client.Review(t.Context(), "KET-07", "yes", func(int, int) {})
	require.ErrorContains(t, err, "say in 10 to 500 who has agreed")
	last, calls := 0, 0
	r, err := s.Client.Review(t.Context(), "KET-07", "Keeper of the museum, on the phone",
		func(done, of int) { calls++; last = 100 * done / of })
	require.NoError(t, err)
	require.Greater(t, calls, 10, "progress is told")
	require.Equal(t, 100, last)
	require.Equal(t, 2, r.Open)
	require.Len(t, r.Findings, 2)
	require.Equal(t, []int{2323, 3389}, []int{r.Findings[0].Port, r.Findings[1].Port})
	require.Contains(t, r.Findings[0].What, "not on the site's record")
	require.Equal(t, "page", r.Findings[1].Service)
	list, err := s.Client.Reviews(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "Keeper of the museum, on the phone", list[0].Consent)
	require.Equal(t, "owner", list[0].Person)
	_, err = s.Client.Review(t.Context(), "KET-07", "Keeper of the museum, on the phone", func(int, int) {})
	require.ErrorContains(t, err, "within the last hour")
}

func TestAvailabilityCountsWhatWasKnown(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := testbed.Start(t, func(o *options) { o.Database = database })
	d := &door{t: t, at: "127.110.5.11:8443"}
	d.open()
	exposed(t, s, "127.110.5.11", "8443", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 5*time.Second)
	good := func(s *testbed.Service) int64 {
		list, err := s.Client.Availability(t.Context(), "KET-07", "page")
		require.NoError(t, err)
		require.Len(t, list[0].Windows, 5)
		return list[0].Windows[0].Good
	}
	require.Eventually(t, func() bool { return good(s) >= 3 }, 15*time.Second, 100*time.Millisecond)
	s.Stop()
	s = testbed.Start(t, func(o *options) { o.Database = database })
	require.GreaterOrEqual(t, good(s), int64(3), "it outlives a restart")
	list, err := s.Client.Availability(t.Context(), "KET-07", "")
	require.NoError(t, err)
	w := list[0].Windows[0]
	require.InDelta(t, 1, *w.Share, 1e-9)
	require.Equal(t, int64(24*3600), w.Unknown+w.Known(), "unknown time is counted as unknown")
	require.Positive(t, w.Median)
}

func TestAVantagePointBeginsAgainWithTheCodeThatItHas(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	inv, err := s.Client.InviteVantage(t.Context(), contract.VantageInput{Name: "quay"})
	require.NoError(t, err)
	o := vantage.Options{Server: s.URL, Code: inv.Code, StateDir: t.TempDir(), From: netip.MustParseAddr("127.99.7.1")}
	for range 2 { // the code stands in the file of its unit
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		before := time.Now()
		go func() { ended <- vantage.Run(ctx, o) }()
		require.Eventually(t, func() bool {
			v := vantageNamed(t, s, "quay")
			return vantage.Enrolled(o.StateDir) && v.State == contract.VantageWorking && v.Heard.After(before)
		}, 20*time.Second, 20*time.Millisecond)
		stop()
		require.NoError(t, <-ended)
	}
	other := o
	other.StateDir = t.TempDir()
	require.ErrorContains(t, vantage.Run(t.Context(), other), "inkpost vantage invite", "a copy of the code is of no use")
	require.NoFileExists(t, filepath.Join(other.StateDir, "claim.json"))
}
