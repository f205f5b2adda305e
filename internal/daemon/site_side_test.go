package daemon_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/stun"
)

// seat is an agent's place: its key, and the address that it speaks from.
type seat struct {
	key    string
	client *client.Client
}

func sit(t *testing.T, s *testbed.Service, link, from string) seat {
	t.Helper()
	inv, err := s.Client.Invite(t.Context(), "KET-07", link, testbed.Public...)
	require.NoError(t, err)
	h := &http.Client{Transport: &http.Transport{DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext}}
	c, err := client.New(s.URL, "", client.WithHTTP(h))
	require.NoError(t, err)
	e, err := c.Enrol(t.Context(), contract.Enrolment{Code: inv.Code})
	require.NoError(t, err)
	c, err = client.New(s.URL, e.Key, client.WithHTTP(h))
	require.NoError(t, err)
	return seat{e.Key, c}
}

func word(reports ...contract.SourceReport) contract.Announcement {
	return contract.Announcement{Source: "stun", AgentSelf: contract.AgentSelf{Protocol: 2, Version: "test", Sent: time.Now().UTC(),
		Reports: reports}}
}

func twoLinks(t *testing.T, edit func(*testbed.Options)) *testbed.Service {
	t.Helper()
	s := testbed.Start(t, edit)
	_, err := s.Client.AddZone(t.Context(), contract.ZoneInput{Apex: "isles.example", Servers: []string{"ns.isles.example=127.0.0.1"}})
	require.NoError(t, err)
	_, err = s.Client.AddSite(t.Context(), contract.SiteInput{Code: "KET-07", Name: "Lighthouse Museum"})
	require.NoError(t, err)
	for i, label := range []string{"main", "backup"} {
		_, err = s.Client.AddLink(t.Context(), "KET-07", contract.LinkInput{Label: label, Position: i + 1})
		require.NoError(t, err)
	}
	_, err = s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "ket-07.isles.example", Site: "KET-07"})
	require.NoError(t, err)
	return s
}

func TestTheServerWeighsWhatAnAgentReports(t *testing.T) {
	s := twoLinks(t, nil)
	at := sit(t, s, "main", "127.112.6.1")
	r, err := at.client.Announce(t.Context(), word(contract.SourceReport{Source: "stun", Via: "a", IPv4: "127.112.6.1"},
		contract.SourceReport{Source: "gateway", Via: "NAT-PMP", IPv4: "127.112.6.1"}))
	require.NoError(t, err)
	require.True(t, r.Changed)
	require.Equal(t, wan.NATDirect, r.NAT)

	// A forged STUN answer, and an address that the sender claims to have been observed at: neither moves the hostname.
	r, err = at.client.Announce(t.Context(), word(contract.SourceReport{Source: "stun", Via: "a", IPv4: "127.112.6.66"},
		contract.SourceReport{Source: "observed", IPv4: "127.112.6.66"}))
	require.NoError(t, err)
	require.False(t, r.Changed)
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, "127.112.6.1", l.IPv4.String())
	require.Contains(t, l.Report.Sources[1].Dissent, "forged")

	r, err = at.client.Announce(t.Context(), word(contract.SourceReport{Source: "gateway", Via: "PCP", IPv4: "100.64.7.9"}))
	require.NoError(t, err)
	require.Equal(t, wan.NATCarrier, r.NAT)

	for name, c := range map[string]struct {
		edit  func(*contract.Announcement)
		words string
	}{
		"an unknown source": {func(a *contract.Announcement) { a.Reports = []contract.SourceReport{{Source: "rumour"}} },
			"it is one of observed"},
		"no address": {func(a *contract.Announcement) { a.Reports = []contract.SourceReport{{Source: "stun", IPv4: "x"}} },
			"is not an IP address"},
		"the other family": {func(a *contract.Announcement) {
			a.Reports = []contract.SourceReport{{Source: "stun", IPv4: "2001:db8::1"}}
		}, "other address family"},
		"an age below nothing": {func(a *contract.Announcement) { a.Reports = []contract.SourceReport{{Source: "stun", AgeMS: -1}} },
			"out of range"},
		"too many reports":      {func(a *contract.Announcement) { a.Reports = make([]contract.SourceReport, 17) }, "16 at most"},
		"a hop that is none":    {func(a *contract.Announcement) { a.Chain = []string{"nowhere"} }, "chain[0]"},
		"a long remark":         {func(a *contract.Announcement) { a.Resolver = strings.Repeat("x", 301) }, "more than 300 characters"},
		"a clock that is wrong": {func(a *contract.Announcement) { a.Sent = time.Now().Add(-time.Hour) }, "behind the server's"},
	} {
		in := word()
		c.edit(&in)
		_, err := at.client.Announce(t.Context(), in)
		require.ErrorContains(t, err, c.words, name)
	}
	l, err = s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, "127.112.6.1", l.IPv4.String(), "nothing of that changed anything")
	_, err = s.Client.EditLink(t.Context(), "KET-07", "main", client.Fields{"sources": []string{"stun", "stun"}})
	require.ErrorContains(t, err, "stun is listed twice")
	_, err = s.Client.EditLink(t.Context(), "KET-07", "main", client.Fields{"router_address": "2001:db8::1"})
	require.ErrorContains(t, err, "not an IPv4 address")
}

func answer(t *testing.T, s *testbed.Service) string {
	t.Helper()
	h, err := s.Client.Hostname(context.Background(), "ket-07.isles.example")
	require.NoError(t, err)
	return h.IPv4.String()
}

func TestHostnamesFollowTheLinkThatWorks(t *testing.T) {
	s := twoLinks(t, func(o *testbed.Options) { o.CheckEvery, o.HoldDown = time.Second, 2*time.Second })
	main, backup := sit(t, s, "main", "127.112.6.2"), sit(t, s, "backup", "127.114.6.2")
	_, err := main.client.Announce(t.Context(), word())
	require.NoError(t, err)
	_, err = backup.client.Announce(t.Context(), word())
	require.NoError(t, err)
	require.Equal(t, "127.112.6.2", answer(t, s))

	// The agent of both says that nothing goes through the preferred one: names move at once.
	down := word()
	down.Down = []string{"main", "no such link"}
	began := time.Now()
	_, err = backup.client.Announce(t.Context(), down)
	require.NoError(t, err)
	require.Equal(t, "127.114.6.2", answer(t, s))
	require.Less(t, time.Since(began), time.Second)

	// It works again: names come back, but only after it has worked for a while.
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	keep := func(at seat) {
		for ctx.Err() == nil {
			_, _ = at.client.Announce(ctx, word())
			time.Sleep(200 * time.Millisecond)
		}
	}
	go keep(backup)
	mainAlive, dies := context.WithCancel(ctx)
	go func() {
		for mainAlive.Err() == nil {
			_, _ = main.client.Announce(mainAlive, word())
			time.Sleep(200 * time.Millisecond)
		}
	}()
	require.Never(t, func() bool { return answer(t, s) == "127.112.6.2" }, 1200*time.Millisecond, 50*time.Millisecond, "the hold-down")
	require.Eventually(t, func() bool { return answer(t, s) == "127.112.6.2" }, 10*time.Second, 50*time.Millisecond)

	// Its agent falls silent, and no service is reached through it: one missed check is enough.
	dies()
	began = time.Now()
	require.Eventually(t, func() bool { return answer(t, s) == "127.114.6.2" }, 10*time.Second, 20*time.Millisecond)
	require.Less(t, time.Since(began), 5*time.Second)
	require.Eventually(t, func() bool {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		for _, f := range list {
			if err == nil && f.Finding.Cause == "link-failing" && strings.Contains(strings.Join(f.Finding.Evidence, " "), "link backup") {
				return true
			}
		}
		return false
	}, 10*time.Second, 50*time.Millisecond)
	// An edit of the record does not bring it back.
	_, err = s.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": "Key at the keeper's cottage."})
	require.NoError(t, err)
	require.Equal(t, "127.114.6.2", answer(t, s))
}

func TestAnAgentsSTUNIsASignOfLife(t *testing.T) {
	s := twoLinks(t, nil)
	at := sit(t, s, "main", "127.112.6.3")
	_, err := at.client.Announce(t.Context(), word())
	require.NoError(t, err)
	before, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	o, err := at.client.Observed(t.Context())
	require.NoError(t, err)
	require.NotZero(t, o.STUN)
	sum := sha256.Sum256([]byte(at.key))
	credential := stun.CredentialOf(sum[:])
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	seen, err := stun.Ask(t.Context(), dial, "udp4", fmt.Sprintf("127.0.0.1:%d", o.STUN), credential)
	require.NoError(t, err)
	require.Equal(t, netip.MustParseAddr("127.0.0.1"), seen.Addr())
	after, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.True(t, after.Heard.After(before.Heard))
	require.Equal(t, before.Addresses(), after.Addresses(), "a sign of life moves nothing")

	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	for _, k := range keys {
		if k.Scope == "agent" {
			require.NoError(t, s.Client.RevokeKey(t.Context(), k.ID))
		}
	}
	_, err = stun.Ask(t.Context(), dial, "udp4", fmt.Sprintf("127.0.0.1:%d", o.STUN), credential)
	require.ErrorIs(t, err, stun.ErrRefused, "a revoked key is no good at once")
}

// Of an agent that asks a server which does not write, the one that does hears, too.
func TestAnAgentsSTUNIsHeardAtEveryServer(t *testing.T) {
	database := testbed.Database(t)
	s := twoLinks(t, func(o *testbed.Options) { o.Database = database })
	beside := testbed.Beside(t, s, database, nil)
	const from = "127.112.6.5"
	at := sit(t, s, "main", from)
	_, err := at.client.Announce(t.Context(), word())
	require.NoError(t, err)
	before, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, from, before.IPv4.String())
	sum := sha256.Sum256([]byte(at.key))
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(from)}}).DialContext(ctx, network, address)
	}
	require.Eventually(t, func() bool { // the other server knows the key soon
		_, err := stun.Ask(t.Context(), dial, "udp4", beside.STUN, stun.CredentialOf(sum[:]))
		after, failed := s.Client.Link(t.Context(), "KET-07", "main")
		return err == nil && failed == nil && after.Heard.After(before.Heard)
	}, 10*time.Second, 100*time.Millisecond)
}

func TestAKeyThatIsRefusedAgainAndAgainBecomesVisibleAtTheSite(t *testing.T) {
	s := twoLinks(t, nil)
	at := sit(t, s, "main", "127.112.6.4")
	_, err := at.client.Announce(t.Context(), word())
	require.NoError(t, err)
	fetch := func(from, user, password string) string {
		h := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
			DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext}}
		req, err := http.NewRequest(http.MethodGet, s.URL+"/announce", nil)
		require.NoError(t, err)
		req.SetBasicAuth(user, password)
		res, err := h.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		line := make([]byte, 200)
		n, _ := res.Body.Read(line)
		return string(line[:n])
	}
	stranger := fetch("127.112.9.9", "nobody", "wrong")
	for range 3 {
		require.Equal(t, stranger, fetch("127.112.6.4", "router", "mistyped"), "the caller learns no more than a stranger does")
		require.Equal(t, stranger, fetch("127.112.9.9", "ket-07", "mistyped"))
	}
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Len(t, l.Report.Refused, 2)
	for _, r := range l.Report.Refused {
		require.Equal(t, 3, r.Count, r.Reason)
		require.True(t, r.Stranger)
	}
	require.Equal(t, "127.112.6.4", l.Report.Refused[0].From)
	s.Engine().ReviewNow(t.Context(), "KET-07")
	list, err := s.Client.Faults(t.Context(), "KET-07", false)
	require.NoError(t, err)
	for _, f := range list {
		require.NotEqualValues(t, "key-refused", string(f.Finding.Cause),
			"anybody on the internet can cause that: it is a note, never a fault")
	}
}
