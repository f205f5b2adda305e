package daemon_test

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// door is a TCP port that can be opened and closed, and counts who came.
type door struct {
	t        *testing.T
	at       string
	listener net.Listener
	knocks   atomic.Int64
}

func (d *door) open() {
	d.t.Helper()
	l, err := net.Listen("tcp4", d.at)
	require.NoError(d.t, err)
	d.listener = l
	d.t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			d.knocks.Add(1)
			_ = c.Close()
		}
	}()
}

func (d *door) close() { _ = d.listener.Close() }

// exposed puts a site with one service on record, whose address is announced.
func exposed(t *testing.T, s *testbed.Service, address, ports, expected string) {
	t.Helper()
	record(t, s, "KET-07")
	announce(t, enrol(t, s, "KET-07"), address)
	_, err := s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: "recorder", Address: "192.168.7.20"})
	require.NoError(t, err)
	_, err = s.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "page", Device: "recorder", External: ports, Expected: expected, Interval: 2, InUse: true})
	require.NoError(t, err)
}

func awaitState(t *testing.T, s *testbed.Service, outcome probe.Outcome, state probe.State, within time.Duration) {
	t.Helper()
	var got contract.Service
	require.Eventually(t, func() bool {
		var err error
		got, err = s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.Outcome == outcome && got.State == state
	}, within, 20*time.Millisecond, "want %s %s, it is %s %s", outcome, state, got.Outcome, got.State)
}

func TestAServiceIsProbedAtOnceAndAFailureIsConfirmedFast(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	d := &door{t: t, at: "127.110.1.1:8443"}
	d.open()
	exposed(t, s, "127.110.1.1", "8443", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 3*time.Second)
	d.close()
	began := time.Now()
	require.Eventually(t, func() bool { // the agent is heard: the address is still the site's
		s.Engine().SiteSide.Observe(linkID(t, s, "KET-07"), netip.MustParseAddr("127.110.1.1"))
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.State == probe.StateUnreachable
	}, 12*time.Second, 20*time.Millisecond)
	require.Less(t, time.Since(began), 4*time.Second, "two intervals of two seconds")
	h, err := s.Client.History(t.Context(), "KET-07", "page", time.Now().Add(-time.Minute), time.Time{})
	require.NoError(t, err)
	require.Len(t, h.Spans, 2)
	require.Equal(t, []probe.Outcome{probe.Opened, probe.Refused}, []probe.Outcome{h.Spans[0].Outcome, h.Spans[1].Outcome})
	require.GreaterOrEqual(t, h.Spans[1].Count, int64(probe.Confirmations))
	require.Eventually(t, func() bool {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		return err == nil && len(list) == 1
	}, 5*time.Second, 20*time.Millisecond, "the fault opens")
	d.open()
	story, err := s.Client.ProbeNow(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, probe.StateReachable, story.State, "a probe out of turn counts like any other")
	require.Equal(t, "127.110.1.1:8443", story.Attempts[0].Target)
	require.NotEmpty(t, story.Attempts[0].From)
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "KET-07", false)
		require.NoError(c, err)
		// Before the link had an address, that may have been told, too.
		list = slices.DeleteFunc(list, func(f contract.Fault) bool { return f.Finding.Cause == "address-unknown" })
		require.Len(c, list, 1)
		require.EqualValues(c, "service-stopped", list[0].Finding.Cause)
		require.False(c, list[0].Closed.IsZero(), "the fault closes by itself")
	}, 5*time.Second, 50*time.Millisecond)
}

func TestOnePortOfARangeThatIsClosedCounts(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	var doors []*door
	for _, port := range []string{"9000", "9001", "9002"} {
		d := &door{t: t, at: "127.110.1.2:" + port}
		d.open()
		doors = append(doors, d)
	}
	exposed(t, s, "127.110.1.2", "9000-9002", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 3*time.Second)
	doors[1].close()
	awaitState(t, s, probe.Refused, probe.StateUnreachable, 12*time.Second)
	story, err := s.Client.ProbeNow(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Len(t, story.Attempts, 3)
	require.Equal(t, probe.Opened, story.Attempts[0].Outcome)
	require.Equal(t, probe.Refused, story.Attempts[1].Outcome)
}

func TestWhatMustBeClosedIsExposedWhenItIsOpen(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	exposed(t, s, "127.110.1.3", "8080", "closed")
	awaitState(t, s, probe.Refused, probe.StateUnreachable, 3*time.Second)
	site, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, contract.NeedNothing, site.Need, "closed is as it should be")
	(&door{t: t, at: "127.110.1.3:8080"}).open()
	awaitState(t, s, probe.Opened, probe.StateExposed, 12*time.Second)
}

func TestTheOldAddressIsLeftAtOnce(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	before, after := &door{t: t, at: "127.110.1.4:8443"}, &door{t: t, at: "127.110.1.5:8443"}
	before.open()
	after.open()
	exposed(t, s, "127.110.1.4", "8443", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 3*time.Second)
	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, keys)
	_, err = s.Engine().Announce(t.Context(), linkID(t, s, "KET-07"), announcementOf("127.110.1.5"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return after.knocks.Load() > 0 }, 2*time.Second, 5*time.Millisecond,
		"without waiting for the interval")
	left := before.knocks.Load()
	require.Eventually(t, func() bool { return after.knocks.Load() > 2 }, 15*time.Second, 20*time.Millisecond)
	require.Equal(t, left, before.knocks.Load(), "nobody knocks where the site no longer is")
	svc, err := s.Client.Service(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, netip.MustParseAddr("127.110.1.5"), svc.Address)
	require.EventuallyWithT(t, func(c *assert) {
		moves, err := s.Client.Moves(context.Background(), contract.MoveQuery{Site: "KET-07", Limit: 1})
		require.NoError(c, err)
		require.False(c, stageOf(moves[0], "confirmed").At.IsZero())
	}, 5*time.Second, 50*time.Millisecond)
}

func TestWithoutAnAddressNothingIsProbed(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	_, err := s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: "recorder", Address: "192.168.7.20"})
	require.NoError(t, err)
	_, err = s.Client.AddService(t.Context(), "KET-07", contract.ServiceInput{Name: "page", Device: "recorder", External: "8443",
		InUse: true})
	require.NoError(t, err)
	story, err := s.Client.ProbeNow(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, probe.Skipped, story.Outcome)
	require.Contains(t, story.Attempts[0].Message, "not known yet")
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.EqualValues(c, "address-unknown", list[0].Finding.Cause)
	}, 8*time.Second, 50*time.Millisecond)
	require.NoError(t, s.Client.RemoveSite(t.Context(), "KET-07"))
	list, err := s.Client.Faults(t.Context(), "", false)
	require.NoError(t, err)
	require.Empty(t, list, "its faults go with the site")
}

func TestAnOverdueAgentIsAFaultThatCanWait(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := testbed.Start(t, func(o *options) { o.Database = database })
	d := &door{t: t, at: "127.110.1.6:8443"}
	d.open()
	exposed(t, s, "127.110.1.6", "8443", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 3*time.Second)
	s.Stop()

	// The same record an hour later, by an engine whose clock says so.
	st, err := store.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	var ahead atomic.Int64
	clock := func() time.Time { return time.Now().UTC().Add(time.Duration(ahead.Load())) }
	e, err := engine.New(t.Context(), st, &authdns.Directory{},
		engine.Config{Policy: announcePolicy, CheckEvery: time.Second, Clock: clock})
	require.NoError(t, err)
	need := func() contract.Need {
		list, total, err := e.Summaries(t.Context(), contract.SiteQuery{Search: "ket"})
		require.NoError(t, err)
		require.Equal(t, 1, total)
		return list[0].Need
	}
	e.ReviewNow(t.Context(), "KET-07")
	require.Equal(t, contract.NeedNothing, need(), "what was proven is remembered; silence before the start proves nothing")
	ahead.Store(int64(time.Hour))
	e.ReviewNow(t.Context(), "KET-07")
	require.Equal(t, contract.NeedSoon, need())
	site, err := e.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.True(t, site.Links[0].Overdue)
	e.SiteSide.Observe(linkIDOf(t, st, "KET-07"), netip.MustParseAddr("127.110.1.6"))
	e.ReviewNow(t.Context(), "KET-07")
	require.Equal(t, contract.NeedNothing, need())
}

// A name server of ours that answers something else is found out, and the hostname is stale.
func TestANameThatAnswersWronglyIsStale(t *testing.T) {
	t.Parallel()
	st, err := store.Open(t.Context(), testbed.Database(t))
	require.NoError(t, err)
	t.Cleanup(st.Close)
	var answer atomic.Value
	answer.Store("198.51.100.66")
	mux := dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) {
		r := new(dns.Msg).SetReply(m)
		if m.Question[0].Qtype == dns.TypeA {
			rr, _ := dns.NewRR(m.Question[0].Name + " 30 A " + answer.Load().(string))
			r.Answer = []dns.RR{rr}
		}
		_ = w.WriteMsg(r)
	})
	l, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	liar := &dns.Server{PacketConn: l, Handler: mux}
	go func() { _ = liar.ActivateAndServe() }()
	t.Cleanup(func() { _ = liar.Shutdown() })

	e, err := engine.New(t.Context(), st, &authdns.Directory{},
		engine.Config{Policy: announcePolicy, NameServer: l.LocalAddr().String(), VerifyEvery: 50 * time.Millisecond})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { e.Run(ctx); close(ended) }()
	t.Cleanup(func() { stop(); <-ended })
	_, err = e.AddZone(ctx, contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=198.51.100.1"}})
	require.NoError(t, err)
	_, err = e.AddSite(ctx, contract.SiteInput{Code: "DIS-01", Name: "Distillery"})
	require.NoError(t, err)
	_, err = e.AddLink(ctx, "DIS-01", contract.LinkInput{Label: "main", Mode: "static", IPv4: "198.51.100.41"})
	require.NoError(t, err)
	_, err = e.AddHostname(ctx, contract.HostnameInput{Name: "dis-01." + zone, Site: "DIS-01", TTL: 1})
	require.NoError(t, err)
	state := func(want names.State) func() bool {
		return func() bool { h, err := e.Hostname(ctx, "dis-01."+zone); return err == nil && h.State == want }
	}
	require.Eventually(t, state(names.StateStale), 5*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		list, err := e.Faults(context.Background(), store.FaultFilter{OpenOnly: true, Limit: 10})
		return err == nil && len(list) == 1 && list[0].Finding.Cause == "name-stale"
	}, 5*time.Second, 20*time.Millisecond)
	moves, err := e.Moves(ctx, contract.MoveQuery{Site: "DIS-01", Limit: 1})
	require.NoError(t, err)
	require.True(t, stageOf(moves[0], "answered").At.IsZero(), "a move that is answered wrongly is not answered")
	answer.Store("198.51.100.41")
	require.Eventually(t, state(names.StatePointed), 5*time.Second, 20*time.Millisecond)
}

func TestAnEditedRecordIsReadAnew(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	site, err := s.Store().Site(t.Context(), "KET-07")
	require.NoError(t, err)
	site.Name = "Written by somebody else"
	require.NoError(t, s.Store().EditSite(t.Context(), site))
	require.NoError(t, s.Engine().Reload(t.Context()))
	got, err := s.Client.Site(t.Context(), "ket-07") // codes are found in any case
	require.NoError(t, err)
	require.Equal(t, "Written by somebody else", got.Name)
}
