package daemon_test

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// named is a service with one site that has a hostname and an address.
func named(t *testing.T, edit func(*testbed.Options)) (s *testbed.Service, agent *client.Client) {
	t.Helper()
	s = testbed.Start(t, edit)
	record(t, s, "KET-07")
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "ket-07." + zone, Site: "KET-07", TTL: 600})
	require.NoError(t, err)
	agent = enrol(t, s, "KET-07")
	announce(t, agent, "198.51.100.7")
	return s, agent
}

func TestARedirectNameSendsABrowserOn(t *testing.T) {
	s, _ := named(t, nil)
	ctx, c := t.Context(), s.Client
	for _, in := range []contract.RedirectInput{
		{Name: "cam." + zone, Hostname: "ket-07." + zone, Port: 8081, Path: "/view?camera=2"},
		{Name: "web." + zone, Hostname: "ket-07." + zone, Scheme: "https", Port: 8443, Path: "/ui", KeepPath: true, Status: 308},
	} {
		_, err := c.AddRedirect(ctx, in)
		require.NoError(t, err)
	}
	require.Equal(t, []string{"127.0.0.1"}, ask(t, s.DNS, "cam."+zone, dns.TypeA), "the name answers the redirect listener's address")
	visit := func(method, host, path string) (int, string) {
		conn, err := net.Dial("tcp", s.SendOn)
		require.NoError(t, err)
		defer conn.Close()
		// as it is: a client would tidy it up
		_, err = fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", method, path, host)
		require.NoError(t, err)
		r, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		defer r.Body.Close()
		return r.StatusCode, r.Header.Get("Location")
	}
	for _, x := range []struct {
		method, host, path string
		status             int
		location           string
	}{
		{"GET", "cam." + zone, "/anything?x=1", 307, "http://ket-07." + zone + ":8081/view?camera=2"},
		{"POST", "CAM." + zone + ".:8480", "/", 307, "http://ket-07." + zone + ":8081/view?camera=2"},
		{"GET", "web." + zone, "/a%2Fb?x=1&y=2", 308, "https://ket-07." + zone + ":8443/ui/a%2Fb?x=1&y=2"},
		{"GET", "web." + zone, "//elsewhere.example/", 308, "https://ket-07." + zone + ":8443/ui/elsewhere.example/"},
		{"GET", "web." + zone, "/@elsewhere.example", 308, "https://ket-07." + zone + ":8443/ui/@elsewhere.example"},
		{"GET", "web." + zone, "/?next=https://elsewhere.example/", 308,
			"https://ket-07." + zone + ":8443/ui/?next=https://elsewhere.example/"},
		{"GET", "ket-07." + zone, "/", 404, ""},
		{"GET", "elsewhere.example", "/", 404, ""},
	} {
		status, location := visit(x.method, x.host, x.path)
		require.Equal(t, x.status, status, x.path)
		require.Equal(t, x.location, location, x.path)
	}
	_, err := c.EditRedirect(ctx, "cam."+zone, client.Fields{"port": 0, "path": "/"})
	require.NoError(t, err)
	_, location := visit("GET", "cam."+zone, "/")
	require.Equal(t, "http://ket-07."+zone+"/", location)

	add := func(in contract.RedirectInput) error { _, err := c.AddRedirect(ctx, in); return err }
	for name, x := range map[string]struct {
		err        error
		status     int
		field, why string
	}{
		"to elsewhere": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "elsewhere.example"}), 422, "hostname",
			"there is no hostname"},
		"script as scheme": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone, Scheme: "javascript"}), 422,
			"scheme", "http or https"},
		"a host as path": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone,
			Path: "//elsewhere.example"}), 422, "path", "is not a path"},
		"no path": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone, Path: "view"}), 422, "path",
			"is not a path"},
		"a header in a path": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone, Path: "/a\r\nX: y"}), 422,
			"path", "contains a control character"},
		"query and path": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone, Path: "/a?b",
			KeepPath: true}), 422, "path", "no path can follow"},
		"port": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone, Port: 65536}), 422, "port",
			"1 to 65535"},
		"status": {add(contract.RedirectInput{Name: "x." + zone, Hostname: "ket-07." + zone, Status: 301}), 422, "status",
			"307 (temporary) or 308"},
		"name of a hostname": {add(contract.RedirectInput{Name: "ket-07." + zone, Hostname: "ket-07." + zone}), 422, "name",
			"is a hostname already"},
		"taken": {add(contract.RedirectInput{Name: "cam." + zone, Hostname: "ket-07." + zone}), 409, "name", "is taken"},
	} {
		t.Run(name, func(t *testing.T) { refused(t, x.err, x.status, x.field, x.why) })
	}
	_, err = c.AddHostname(ctx, contract.HostnameInput{Name: "cam." + zone, Site: "KET-07"})
	require.Error(t, err, "a redirect's name is taken for hostnames too")
	_, err = c.AddZone(ctx, contract.ZoneInput{Apex: "west.example", Servers: []string{"ns.elsewhere.example"}})
	require.NoError(t, err)
	_, err = c.AddHostname(ctx, contract.HostnameInput{Name: "pier.west.example", Site: "KET-07"})
	require.NoError(t, err)
	_, err = c.AddRedirect(ctx, contract.RedirectInput{Name: "pier." + zone, Hostname: "pier.west.example"})
	require.NoError(t, err)
	serial := testbed.Serial(s.DNS, zone)
	require.NoError(t, c.RemoveHostname(ctx, "pier.west.example"))
	require.Empty(t, ask(t, s.DNS, "pier."+zone, dns.TypeA), "a redirect goes with its hostname")
	require.True(t, names.SerialAfter(testbed.Serial(s.DNS, zone), serial), "which the secondaries of its zone have to see")
	require.NoError(t, c.RemoveRedirect(ctx, "cam."+zone))
	status, _ := visit("GET", "cam."+zone, "/")
	require.Equal(t, 404, status)
}

func TestAHostnameStaysWhereItIsKept(t *testing.T) {
	s, agent := named(t, nil)
	ctx, c := t.Context(), s.Client
	_, err := c.AddHostname(ctx, contract.HostnameInput{Name: "second." + zone, Site: "KET-07"})
	require.NoError(t, err)
	h, err := c.HoldHostname(ctx, "second."+zone)
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", h.HoldAt)
	announce(t, agent, "198.51.100.8")
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "ket-07."+zone, dns.TypeA))
	require.Equal(t, []string{"198.51.100.7"}, ask(t, s.DNS, "second."+zone, dns.TypeA), "an operator keeps it")
	_, err = c.ReleaseHostname(ctx, "second."+zone)
	require.NoError(t, err)
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "second."+zone, dns.TypeA), "released, it follows at once")

	key, err := c.AddRouterKey(ctx, "KET-07", "main", "router", testbed.Public...)
	require.NoError(t, err)
	at := s.URL + "/announce/" + key.Secret
	status, line := fetch(t, "GET", at+"?ipv4=198.51.100.9&except=second."+zone, nil, nil)
	require.Equal(t, 200, status)
	require.Equal(t, "moved 198.51.100.9 ket-07."+zone+" held second."+zone+"\n", line)
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "second."+zone, dns.TypeA))
	serial := testbed.Serial(s.DNS, zone)
	status, line = fetch(t, "GET", at+"?ipv4=198.51.100.9&except=second."+zone, nil, nil)
	require.Equal(t, 200, status)
	require.Equal(t, "same 198.51.100.9 held second."+zone+"\n", line)
	require.Equal(t, serial, testbed.Serial(s.DNS, zone), "the same again writes nothing")
	status, _ = fetch(t, "GET", at+"?ipv4=198.51.100.9", nil, nil)
	require.Equal(t, 200, status)
	require.Equal(t, []string{"198.51.100.9"}, ask(t, s.DNS, "second."+zone, dns.TypeA),
		"an announcement that keeps nothing out lets it follow")
	status, line = fetch(t, "GET", at+"?ipv4=10.1.1.1&except=second."+zone, nil, nil)
	require.Equal(t, 422, status, line)
	h, err = c.Hostname(ctx, "second."+zone)
	require.NoError(t, err)
	require.Empty(t, h.HoldAt, "an announcement that is refused keeps nothing")
	status, line = fetch(t, "GET", at+"?except=elsewhere.example", nil, nil)
	require.Equal(t, 422, status)
	require.Contains(t, line, `refused: except "elsewhere.example" does not follow the link of this key`)
	status, line = fetch(t, "GET", at+"?except=second."+zone+"&name=second."+zone, nil, nil)
	require.Equal(t, 422, status)
	require.Contains(t, line, "also to be left out")
}

func TestTTLsAreLowAheadOfAPlannedChange(t *testing.T) {
	var ahead atomic.Int64
	s, agent := named(t, func(o *testbed.Options) {
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())).UTC().Truncate(time.Microsecond) }
	})
	ttl := func() uint32 {
		r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion("ket-07."+zone+".", dns.TypeA), s.DNS)
		if err != nil || len(r.Answer) != 1 {
			return 0
		}
		return r.Answer[0].Header().Ttl
	}
	_, err := s.Client.EditLink(t.Context(), "KET-07", "main", client.Fields{"change_at": time.Now().Add(2 * time.Hour)})
	require.NoError(t, err)
	require.EqualValues(t, 600, ttl(), "two hours before, nothing changes")
	serial := testbed.Serial(s.DNS, zone)
	ahead.Store(int64(110 * time.Minute))
	require.Eventually(t, func() bool { return ttl() == names.AheadTTL }, 5*time.Second, 20*time.Millisecond,
		"ten minutes before it is low")
	require.True(t, names.SerialAfter(testbed.Serial(s.DNS, zone), serial), "secondaries have to see it")
	ahead.Store(int64(121 * time.Minute))
	late := testbed.Says("198.51.100.8")
	late.Sent = s.Engine().Now()
	_, err = agent.Announce(t.Context(), late)
	require.NoError(t, err)
	require.EqualValues(t, 600, ttl(), "the change has come: it is what it was")
	_, err = s.Client.EditLink(t.Context(), "KET-07", "main", client.Fields{"change_at": time.Now().AddDate(3, 0, 0)})
	refused(t, err, 422, "change_at", "within a year")
}

func TestNamesAreCheckedAndSuggested(t *testing.T) {
	s, _ := named(t, nil)
	ctx, c := t.Context(), s.Client
	check := func(name string) contract.NameCheck {
		out, err := c.CheckName(ctx, name)
		require.NoError(t, err)
		return out
	}
	for name, x := range map[string]struct {
		legal, free bool
		ascii, why  string
	}{
		"oys-03." + zone:                     {true, true, "oys-03." + zone, "is free in hosted zone " + zone},
		"OYS-03." + zone + ".":               {true, true, "oys-03." + zone, "is free"},
		"ket-07." + zone:                     {true, false, "ket-07." + zone, "belongs to site KET-07 already"},
		"ns1." + zone:                        {false, false, "", "is a name server of zone"},
		"a_b." + zone:                        {false, false, "", "letters a-z, digits and hyphens"},
		"elsewhere.example":                  {false, false, "", "below none of the zones"},
		zone:                                 {false, false, "", "below none of the zones"},
		"möwe." + zone:                       {true, true, "xn--mwe-sna." + zone, "möwe." + zone + " is free"},
		"MÖWE." + zone:                       {true, true, "xn--mwe-sna." + zone, "is free"},
		"xn--mwe-sna." + zone:                {true, true, "xn--mwe-sna." + zone, "möwe." + zone + " is free"},
		"xn--zzzzzz99999." + zone:            {false, false, "", "not a legal international name"},
		"mö we." + zone:                      {false, false, "", "not a legal international name"},
		strings.Repeat("ö", 60) + "." + zone: {false, false, "", ""},
	} {
		got := check(name)
		require.Equal(t, x.legal, got.Legal, "%s: %s", name, got.Detail)
		require.Equal(t, x.free, got.Free, "%s: %s", name, got.Detail)
		require.Contains(t, got.Detail, x.why, name)
		if x.ascii != "" {
			require.Equal(t, x.ascii, got.Name)
		}
	}
	h, err := c.AddHostname(ctx, contract.HostnameInput{Name: "möwe." + zone, Site: "KET-07"})
	require.NoError(t, err)
	require.EqualValues(t, "xn--mwe-sna."+zone, h.Name)
	require.Equal(t, "möwe."+zone, h.Shown)
	require.Equal(t, []string{"198.51.100.7"}, ask(t, s.DNS, "xn--mwe-sna."+zone, dns.TypeA))

	first, err := c.SuggestName(ctx, "KET-07", "")
	require.NoError(t, err)
	require.Equal(t, "ket-07-2."+zone, first.Name, "the plain one is taken")
	_, err = c.EditZone(ctx, zone, client.Fields{"template": "{name}-{n}." + zone})
	require.NoError(t, err)
	_, err = c.AddSite(ctx, contract.SiteInput{Code: "MOW-01", Name: "Gasthof Möwe & Söhne"})
	require.NoError(t, err)
	first, err = c.SuggestName(ctx, "MOW-01", "")
	require.NoError(t, err)
	require.True(t, first.Free, first.Detail)
	require.Equal(t, "gasthof-möwe-söhne-1."+zone, first.Shown)
	_, err = c.SuggestName(ctx, "XXX-99", "")
	require.True(t, client.IsStatus(err, 404))
}

func TestZonesHaveTimersOfTheirOwn(t *testing.T) {
	s, _ := named(t, nil)
	_, err := s.Client.AddZone(t.Context(), contract.ZoneInput{Apex: "west.example", Servers: []string{"ns.elsewhere.example"},
		TTL: 120, Refresh: 1800, Retry: 60, Expire: 604800, Negative: 10})
	require.NoError(t, err)
	soa := func(zone string) *dns.SOA {
		r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), s.DNS)
		require.NoError(t, err)
		require.Len(t, r.Answer, 1)
		return r.Answer[0].(*dns.SOA)
	}
	require.Equal(t, []uint32{120, 1800, 60, 604800, 10},
		[]uint32{soa("west.example").Hdr.Ttl, soa("west.example").Refresh, soa("west.example").Retry, soa("west.example").Expire,
			soa("west.example").Minttl})
	_, err = s.Client.EditZone(t.Context(), "west.example", client.Fields{"retry_seconds": 90})
	require.NoError(t, err)
	require.EqualValues(t, 90, soa("west.example").Retry)
	require.EqualValues(t, 1800, soa("west.example").Refresh, "what is not given stays")
	require.EqualValues(t, 3600, soa(zone).Refresh, "the other zone keeps its own")
}

func TestAnAliasIsShownToAnswerTheSame(t *testing.T) {
	s, agent := named(t, nil)
	_, err := s.Client.AddAlias(t.Context(), contract.AliasInput{Name: "lighthouse." + zone, Hostname: "ket-07." + zone})
	require.NoError(t, err)
	same := func(address string) func() bool {
		return func() bool {
			list, err := s.Client.Aliases(t.Context())
			return err == nil && len(list) == 1 && list[0].Same && list[0].Given == address && list[0].HostnameGiven == address
		}
	}
	require.Eventually(t, same("198.51.100.7"), 5*time.Second, 20*time.Millisecond)
	announce(t, agent, "198.51.100.8")
	require.Eventually(t, same("198.51.100.8"), 5*time.Second, 20*time.Millisecond)
}

func TestMovesAreFilteredAndComeAsCSV(t *testing.T) {
	s, agent := named(t, nil)
	announce(t, agent, "198.51.100.8")
	announce(t, agent, "198.51.100.9")
	ctx := t.Context()
	all, err := s.Client.Moves(ctx, contract.MoveQuery{})
	require.NoError(t, err)
	require.Len(t, all, 3)
	count := func(q contract.MoveQuery) int {
		list, err := s.Client.Moves(ctx, q)
		require.NoError(t, err)
		return len(list)
	}
	require.Equal(t, 2, count(contract.MoveQuery{Address: "198.51.100.8"}), "came to it and left it")
	require.Equal(t, 0, count(contract.MoveQuery{Until: all[2].Noticed.Add(-time.Hour)}))
	require.Equal(t, 3, count(contract.MoveQuery{Since: all[2].Noticed.Add(-time.Hour), Until: time.Now().Add(time.Hour)}))
	require.Equal(t, 0, count(contract.MoveQuery{Source: "stun"}))
	require.Equal(t, 3, count(contract.MoveQuery{Source: string(all[0].Source)}))
	require.Equal(t, 3, count(contract.MoveQuery{Unfinished: true}), "no service has confirmed them")
	for _, q := range []contract.MoveQuery{{Source: "rumour"}, {Address: "here"}, {Link: "main"}} {
		_, err := s.Client.Moves(ctx, q)
		require.True(t, client.IsStatus(err, 422), "%+v: %v", q, err)
	}
	status, text := fetch(t, "GET", s.URL+"/api/v1/moves?format=csv&site=KET-07", nil,
		func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Key) })
	require.Equal(t, 200, status)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	require.Equal(t, []string{"id", "site", "link", "old", "new"}, rows[0][:5])
	require.Equal(t, []string{"KET-07", "main", "198.51.100.8", "198.51.100.9"}, rows[1][1:5])
}
