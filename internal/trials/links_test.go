package trials_test

import (
	"context"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// speaker is an agent that speaks from an address of its own.
type speaker struct {
	t   testing.TB
	key string
	url string
}

func enrolled(t testing.TB, s *testbed.Service, code, link string) speaker {
	t.Helper()
	inv, err := s.Client.Invite(t.Context(), code, link, testbed.Public...)
	require.NoError(t, err)
	e, err := s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code, Label: link})
	require.NoError(t, err)
	return speaker{t, e.Key, s.URL}
}

// says reports addresses from an address.
func (a speaker) says(from string, addresses ...string) contract.Receipt {
	a.t.Helper()
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
	c, err := client.New(a.url, a.key, client.WithHTTP(&http.Client{Transport: &http.Transport{DialContext: d.DialContext,
		DisableKeepAlives: true}}))
	require.NoError(a.t, err)
	receipt, err := c.Announce(a.t.Context(), testbed.Says(addresses...))
	require.NoError(a.t, err)
	return receipt
}

// The router sends the first link's agent out by the second line: the first link is down, and does not have the other's address.
func TestAnAgentThatComesByTheOtherLinkSaysThatItsOwnIsDown(t *testing.T) {
	t.Parallel()
	s := start(t, func(o *options) { o.HoldDown = time.Second })
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	_, err := s.Client.AddLink(t.Context(), "KET-07", contract.LinkInput{Label: "backup", Position: 2, Mode: "static", IPv4: "127.117.4.2"})
	require.NoError(t, err)
	agent := enrolled(t, s, "KET-07", "main")
	agent.says("127.117.4.1", "127.117.4.1")
	require.Equal(t, "127.117.4.1", testbed.Resolve(s.DNS, name))

	receipt := agent.says("127.117.4.2", "127.117.4.2")
	require.False(t, receipt.Changed)
	require.Contains(t, receipt.Held, "came by link backup (127.117.4.2): link main is down")
	require.Equal(t, "127.117.4.2", testbed.Resolve(s.DNS, name), "names that follow whichever link works go to the other one")
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, "127.117.4.1", l.IPv4.String(), "its own address stays on record")
	require.True(t, l.Failing)
	require.EventuallyWithT(t, func(c *collect) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.EqualValues(c, "link-failing", list[0].Finding.Cause)
	}, 5*time.Second, 50*time.Millisecond)

	// A router that fetches a URL is held to the same.
	r := s.Router(t, "KET-07")
	require.ErrorContains(t, r.Announce(t.Context(), "127.117.4.2"), "link main is down")

	require.EventuallyWithT(t, func(c *collect) { // the line is back
		agent.says("127.117.4.1", "127.117.4.1")
		require.Equal(c, "127.117.4.1", testbed.Resolve(s.DNS, name))
	}, 15*time.Second, 200*time.Millisecond)
}

func TestASiteThatLosesAFamilyLosesItsRecordsAfterThreeReports(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	six := func() int {
		r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeAAAA), s.DNS)
		require.NoError(t, err)
		return len(r.Answer)
	}
	agent := enrolled(t, s, "KET-07", "main")
	agent.says("127.117.4.5", "127.117.4.5", "2001:db8::5")
	require.Equal(t, 1, six())
	for range 2 {
		agent.says("127.117.4.5", "127.117.4.5")
		require.Equal(t, 1, six(), "a report without it may be a lost packet")
	}
	agent.says("127.117.4.5", "127.117.4.5", "2001:db8::5")
	for range 2 {
		agent.says("127.117.4.5", "127.117.4.5")
		require.Equal(t, 1, six(), "it begins anew")
	}
	receipt := agent.says("127.117.4.5", "127.117.4.5")
	require.True(t, receipt.Changed)
	require.Equal(t, "127.117.4.5", receipt.New)
	require.Zero(t, six())
	require.Equal(t, "127.117.4.5", testbed.Resolve(s.DNS, name))

	// What a router brought is not the agent's to withdraw.
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "2001:db8::7"))
	for range 4 {
		agent.says("127.117.4.5", "127.117.4.5")
	}
	require.Equal(t, 1, six())
}

// A link that moves often is followed as long as everybody agrees where it is; what is held back is said at the site.
func TestOnlySourcesThatDisagreeAreDamped(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	agent := enrolled(t, s, "KET-07", "main")
	for _, at := range []string{"127.117.4.11", "127.117.4.12", "127.117.4.13", "127.117.4.14", "127.117.4.15", "127.117.4.16"} {
		agent.says(at, at)
		require.Equal(t, at, testbed.Resolve(s.DNS, name))
	}
	receipt := agent.says("127.117.4.16", "127.117.4.17") // its sources say one thing, and the connection another
	require.Contains(t, receipt.Held, "changed 6 times within 5 minutes")
	require.Equal(t, "127.117.4.16", testbed.Resolve(s.DNS, name))
	require.EventuallyWithT(t, func(c *collect) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.EqualValues(c, "address-held", list[0].Finding.Cause)
		require.False(c, list[0].Serious, "nothing fails by it")
		require.Contains(c, list[0].Finding.Evidence[0], "changed 6 times within 5 minutes")
	}, 5*time.Second, 50*time.Millisecond)
}
