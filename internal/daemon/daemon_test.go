package daemon_test

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const zone = testbed.Zone

// record puts a zone and a site with one dynamic link on record.
func record(t *testing.T, s *testbed.Service, code string) { t.Helper(); s.Record(t, code) }

// enrol gives the agent of a site.
func enrol(t *testing.T, s *testbed.Service, code string) *client.Client {
	t.Helper()
	return s.Enrol(t, code)
}

// answers asks the service's name server for an A record.
func answers(t *testing.T, server, name string) (addresses []string, serial uint32, rcode int) {
	t.Helper()
	c := dns.Client{Timeout: 2 * time.Second}
	r, _, err := c.Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeA), server)
	require.NoError(t, err)
	for _, rr := range r.Answer {
		addresses = append(addresses, rr.(*dns.A).A.String())
	}
	soa, _, err := c.Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), server)
	require.NoError(t, err)
	if len(soa.Answer) == 1 {
		serial = soa.Answer[0].(*dns.SOA).Serial
	}
	return addresses, serial, r.Rcode
}

func announce(t *testing.T, agent *client.Client, address string) contract.Receipt {
	t.Helper()
	r, err := agent.Announce(t.Context(), testbed.Says(address))
	require.NoError(t, err)
	return r
}

func TestAnAnnouncementIsAnsweredWhenItIsAcknowledged(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	name := "ket-07." + zone
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07", TTL: 1})
	require.NoError(t, err)
	_, serial, rcode := answers(t, s.DNS, name)
	require.Equal(t, dns.RcodeNameError, rcode, "no address is known yet")

	agent := enrol(t, s, "KET-07")
	for _, address := range []string{"198.51.100.7", "198.51.100.8", "198.51.100.9"} {
		r := announce(t, agent, address)
		require.True(t, r.Changed)
		require.Equal(t, []string{name}, r.Hostnames)
		got, next, _ := answers(t, s.DNS, name)
		require.Equal(t, []string{address}, got, "acknowledged means answering")
		require.True(t, names.SerialAfter(next, serial), "the serial goes up")
		serial = next
	}
	r := announce(t, agent, "198.51.100.9")
	require.False(t, r.Changed)
	_, next, _ := answers(t, s.DNS, name)
	require.Equal(t, serial, next, "an announcement that changes nothing leaves the serial")

	require.EventuallyWithT(t, func(c *assert) {
		moves, err := s.Client.Moves(context.Background(), contract.MoveQuery{Site: "KET-07", Link: "main", Limit: 10})
		require.NoError(c, err)
		require.Len(c, moves, 3)
		require.Equal(c, "198.51.100.8", moves[0].Old)
		require.Equal(c, "198.51.100.9", moves[0].New)
		for _, stage := range []string{"received", "recorded", "published", "answered"} {
			require.False(c, stageOf(moves[0], stage).At.IsZero(), stage)
		}
		h, err := s.Client.Hostname(context.Background(), name)
		require.NoError(c, err)
		require.Equal(c, names.StatePointed, h.State)
		require.Equal(c, "198.51.100.9", h.Given)
	}, 10*time.Second, 50*time.Millisecond)
}

func stageOf(m contract.Move, name string) contract.Stage {
	for _, s := range m.Stages {
		if s.Name == name {
			return s
		}
	}
	return contract.Stage{}
}

func TestFamiliesMoveApart(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	name := "ket-07." + zone
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07"})
	require.NoError(t, err)
	agent := enrol(t, s, "KET-07")
	announce(t, agent, "198.51.100.7")
	_, err = agent.Announce(t.Context(), testbed.Says("2001:db8::7"))
	require.NoError(t, err)
	h, err := s.Client.Hostname(t.Context(), name)
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", h.IPv4.String(), "the family that was not spoken of stays")
	require.Equal(t, "2001:db8::7", h.IPv6.String())
}

func TestTheServerBelievesWhatItSees(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	agent := enrol(t, s, "KET-07")
	_, err := agent.Announce(t.Context(), contract.Announcement{Source: "observed", IPv4: "198.51.100.66"})
	require.ErrorContains(t, err, "127.0.0.1 is a loopback address", "observed is the socket's address, whatever the sender says")
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.False(t, l.IPv4.IsValid(), "nothing was recorded")
}

func TestHostnamesFollowAnotherLinkOrTheOrder(t *testing.T) {
	s := testbed.Start(t, nil)
	ctx := t.Context()
	record(t, s, "BAK-02")
	_, err := s.Client.AddLink(ctx, "BAK-02", contract.LinkInput{Label: "fixed", Mode: "static", IPv4: "203.0.113.2"})
	require.NoError(t, err)
	for name, link := range map[string]string{"bak-02." + zone: "", "fixed.bak-02." + zone: "fixed"} {
		_, err := s.Client.AddHostname(ctx, contract.HostnameInput{Name: name, Site: "BAK-02", Link: link})
		require.NoError(t, err)
	}
	address := func(name string) string {
		got, _, _ := answers(t, s.DNS, name)
		require.Len(t, got, 1)
		return got[0]
	}
	require.Equal(t, "203.0.113.2", address("bak-02."+zone), "the first link has no address yet")
	announce(t, enrol(t, s, "BAK-02"), "198.51.100.2")
	require.Equal(t, "198.51.100.2", address("bak-02."+zone), "now the preferred link has one")
	require.Equal(t, "203.0.113.2", address("fixed.bak-02."+zone))
	_, before, _ := answers(t, s.DNS, "bak-02."+zone)
	_, err = s.Client.EditLink(ctx, "BAK-02", "main", client.Fields{"position": 3})
	require.NoError(t, err)
	require.Equal(t, "203.0.113.2", address("bak-02."+zone), "another order of preference")
	_, after, _ := answers(t, s.DNS, "bak-02."+zone)
	require.True(t, names.SerialAfter(after, before))
	_, err = s.Client.EditLink(ctx, "BAK-02", "fixed", client.Fields{"ipv4": "203.0.113.3"})
	require.NoError(t, err)
	require.Equal(t, "203.0.113.3", address("fixed.bak-02."+zone))
	moves, err := s.Client.Moves(ctx, contract.MoveQuery{Site: "BAK-02", Link: "fixed", Limit: 10})
	require.NoError(t, err)
	require.Len(t, moves, 2, "a fixed address has its history too")
	require.Equal(t, "fixed", moves[0].Source)
	require.NoError(t, s.Client.RemoveHostname(ctx, "fixed.bak-02."+zone))
	_, _, rcode := answers(t, s.DNS, "fixed.bak-02."+zone)
	require.Equal(t, dns.RcodeNameError, rcode)
}

func TestAddressesOnRecordOutliveTheServer(t *testing.T) {
	database := testbed.Database(t)
	first := testbed.Start(t, func(o *options) { o.Database = database })
	record(t, first, "KET-07")
	_, err := first.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "ket-07." + zone, Site: "KET-07"})
	require.NoError(t, err)
	announce(t, enrol(t, first, "KET-07"), "198.51.100.7")
	_, serial, _ := answers(t, first.DNS, "ket-07."+zone)
	first.Stop()
	second := testbed.Start(t, func(o *options) { o.Database = database })
	got, again, _ := answers(t, second.DNS, "ket-07."+zone)
	require.Equal(t, []string{"198.51.100.7"}, got)
	require.Equal(t, serial, again)
	l, err := second.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, netip.MustParseAddr("198.51.100.7"), l.IPv4)
	require.True(t, l.Agent)
}
