package trials_test

import (
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// keyed is a site with a hostname, an agent and a router whose keys a person allows nothing beside their own address.
func keyed(t *testing.T, edit func(*options)) (s *testbed.Service, name string, agent *client.Client, router contract.Key) {
	t.Helper()
	s = start(t, edit)
	s.Record(t, "KET-07")
	name = s.Name(t, "KET-07")
	inv, err := s.Client.Invite(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	e, err := s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code, Label: "agent"})
	require.NoError(t, err)
	agent, err = client.New(s.URL, e.Key)
	require.NoError(t, err)
	router, err = s.Client.AddRouterKey(t.Context(), "KET-07", "main", "router")
	require.NoError(t, err)
	return s, name, agent, router
}

// says fetches a URL, and gives the reply.
func says(t testing.TB, url string) string {
	t.Helper()
	r, err := http.Get(url)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return strings.TrimSpace(string(text))
}

func TestAStolenKeyMovesNoNameToAThirdParty(t *testing.T) {
	t.Parallel()
	s, name, agent, router := keyed(t, nil)
	permit := fmt.Sprintf("inkpost key allow %d 198.51.100.66/32", router.ID)

	// The router's key, at the URL and as a password.
	line := says(t, s.URL+"/announce/"+router.Secret+"?ipv4=198.51.100.66")
	require.Contains(t, line, "refused: 198.51.100.66 is not the address that this comes from")
	require.Contains(t, line, permit, "the refusal says how to allow it")
	// The agent's key, in every way to put it: all sources agree, the protocol is an old one or none, the time is left out.
	word := testbed.Says("198.51.100.66")
	got, err := agent.Announce(t.Context(), word)
	require.NoError(t, err)
	require.False(t, got.Changed)
	require.Contains(t, got.Held, "198.51.100.66 is not the address that this comes from")
	for what, edit := range map[string]func(*contract.Announcement){
		"no protocol": func(a *contract.Announcement) { a.Protocol, a.Reports, a.IPv4 = 0, nil, "198.51.100.66" },
		"protocol 1":  func(a *contract.Announcement) { a.Protocol, a.Reports, a.IPv4 = 1, nil, "198.51.100.66" },
		"no time":     func(a *contract.Announcement) { a.Sent = time.Time{} },
		"a made-up source": func(a *contract.Announcement) {
			a.Reports = append(a.Reports, contract.SourceReport{Source: "observed", IPv4: "198.51.100.66"})
		},
	} {
		t.Run(what, func(t *testing.T) {
			in := testbed.Says("198.51.100.66")
			edit(&in)
			got, err := agent.Announce(t.Context(), in)
			require.True(t, err != nil || !got.Changed, "%+v", got)
		})
	}
	require.Contains(t, says(t, s.URL+"/announce/"+agentSecret(t, s)+"?ipv4=198.51.100.66"), "refused: this key cannot announce",
		"an agent's key is none at the URL")
	require.Empty(t, testbed.Resolve(s.DNS, name))

	// It is shown at the site, and opens a fault: a key is in the wrong hands, or needs to be allowed.
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.NotEmpty(t, l.Report.Refused)
	require.False(t, l.Report.Refused[0].Stranger)
	soon(t, 10*time.Second, "the refusal is a fault", func() bool {
		list, err := s.Client.Faults(t.Context(), "KET-07", true)
		require.NoError(t, err)
		return len(list) > 0
	})

	// What a person allows is followed: a router that tells its IPv6 address over IPv4 needs that.
	require.NoError(t, s.Client.AllowKey(t.Context(), router.ID, netip.MustParsePrefix("2001:db8:7::/48")))
	require.Contains(t, says(t, s.URL+"/announce/"+router.Secret+"?ipv6=2001:db8:7::1"), "moved 2001:db8:7::1")
	require.Contains(t, says(t, s.URL+"/announce/"+router.Secret+"?ipv6=2001:db8:8::1"), "refused:")
}

// agentSecret enrols one more agent, and gives its key.
func agentSecret(t *testing.T, s *testbed.Service) string {
	t.Helper()
	inv, err := s.Client.Invite(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	e, err := s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code, Label: "one more"})
	require.NoError(t, err)
	return e.Key
}

func TestAStaticLinkIsMovedByNobodyButAPerson(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "DIS-01")
	name, router, agent := s.Name(t, "DIS-01"), s.Router(t, "DIS-01"), s.Enrol(t, "DIS-01")
	_, err := s.Client.EditLink(t.Context(), "DIS-01", "main", client.Fields{"mode": "static", "ipv4": "203.0.113.2"})
	require.NoError(t, err)
	_, err = s.Client.AddRouterKey(t.Context(), "DIS-01", "main", "router")
	require.ErrorContains(t, err, "link main is static", "nor is a key made that could announce nothing")
	require.ErrorContains(t, router.Announce(t.Context(), "203.0.113.9"), "link main is static")
	_, err = agent.Announce(t.Context(), testbed.Says("203.0.113.9"))
	require.Equal(t, 422, status(err))
	require.ErrorContains(t, err, "link main is static: an operator sets its address")
	key, err := s.Client.AddSigningKey(t.Context(),
		contract.SigningKeyInput{Name: "router.example", Site: "DIS-01", MayAnnounce: testbed.Public})
	require.NoError(t, err)
	rcode, err := sign(s.DNS, name, "203.0.113.9", key)
	require.NoError(t, err)
	require.Equal(t, 5, rcode, "REFUSED (RFC 2136 section 3.3)")
	require.Equal(t, "203.0.113.2", testbed.Resolve(s.DNS, name))
}

func TestTheListOfSourcesHoldsAtEveryEntrance(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	_, err := s.Client.EditLink(t.Context(), "KET-07", "main", client.Fields{"sources": []string{"stun", "observed"}})
	require.NoError(t, err)
	require.ErrorContains(t, s.Router(t, "KET-07").Announce(t.Context(), "198.51.100.9"), "interface is not among them")
	in := testbed.Says("198.51.100.9")
	in.Reports = in.Reports[1:] // only the gateway says so
	got, err := s.Enrol(t, "KET-07").Announce(t.Context(), in)
	require.NoError(t, err)
	require.False(t, got.Changed)
}

func TestOneKeyCannotAskForMoreThanItsShare(t *testing.T) {
	t.Parallel()
	s, name, agent, router := keyed(t, func(o *options) { o.KeyRate = 2 })
	refused := map[string]int{}
	signing, err := s.Client.AddSigningKey(t.Context(),
		contract.SigningKeyInput{Name: "router.example", Site: "KET-07", MayAnnounce: testbed.Public})
	require.NoError(t, err)
	for n := range 150 {
		rcode, err := sign(s.DNS, name, fmt.Sprintf("198.51.100.%d", 1+n%2), signing)
		require.NoError(t, err)
		if rcode == dns.RcodeServerFailure {
			refused["updates"]++
		}
		if _, err := agent.Announce(t.Context(), testbed.Says("198.51.100.1")); status(err) == 429 {
			refused["announcements"]++
		}
		if status(agent.ReportLAN(t.Context(), contract.LANReport{})) == 429 {
			refused["LAN reports"]++
		}
		if strings.Contains(says(t, s.URL+"/announce/"+router.Secret), "later: this key announces too often") {
			refused["fetches"]++
		}
	}
	for _, what := range []string{"announcements", "LAN reports", "fetches", "updates"} {
		require.Greater(t, refused[what], 50, what)
	}
	_, err = s.Client.Sites(t.Context())
	require.NoError(t, err, "others are not refused")
}

func TestWhatAgentsAndVantagePointsSayIsBounded(t *testing.T) {
	t.Parallel()
	s, _, agent, _ := keyed(t, nil)
	long := strings.Repeat("x", 5<<20)
	in := testbed.Says("198.51.100.1")
	in.Version = long
	_, err := agent.Announce(t.Context(), in)
	require.Equal(t, 413, status(err), "%.200v", err)
	some := strings.Repeat("x", 9000)
	in.Version = some
	_, err = agent.Announce(t.Context(), in)
	require.Equal(t, 422, status(err), "%.200v", err)
	in = testbed.Says("198.51.100.1")
	for range 200 {
		in.Chain = append(in.Chain, "192.168.7.1")
	}
	_, err = agent.Announce(t.Context(), in)
	require.ErrorContains(t, err, "too many")
	require.Equal(t, 422, status(agent.ReportLAN(t.Context(), contract.LANReport{Devices: []contract.DeviceReport{{Device: some}}})))
	require.Equal(t, 422, status(agent.ReportLAN(t.Context(), contract.LANReport{Devices: make([]contract.DeviceReport, 1001)})))
	vantage, _ := vantagePoint(t, s, "harbour")
	_, err = vantage.ReturnOutcomes(t.Context(), contract.OutcomeBatch{Outcomes: make([]contract.OutcomeReport, 20000)})
	require.Contains(t, []int{413, 422}, status(err))
}
