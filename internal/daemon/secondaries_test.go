package daemon_test

import (
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// stocked is a service whose zone holds something of every kind, with a key for transfers.
func stocked(t *testing.T) (s *testbed.Service, key contract.SigningKey, agent *client.Client) {
	t.Helper()
	s = testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	record(t, s, "KET-07")
	record(t, s, "OYS-03")
	for _, in := range []contract.HostnameInput{
		{Name: "ket-07." + zone, Site: "KET-07", Extras: []string{"www", "*"}, Mail: "ket-07." + zone},
		{Name: "deep.below.oys-03." + zone, Site: "OYS-03"},
	} {
		_, err := c.AddHostname(ctx, in)
		require.NoError(t, err)
	}
	for alias, name := range map[string]string{"lighthouse": "ket-07", "oysters": "deep.below.oys-03"} {
		_, err := c.AddAlias(ctx, contract.AliasInput{Name: alias + "." + zone, Hostname: name + "." + zone})
		require.NoError(t, err)
	}
	for _, r := range []string{
		`@ MX 10 mail.saltmarsh.example.`, `@ TXT "v=spf1 -all"`, `@ CAA 0 issue "ca.example"`,
		`_sip._tcp SRV 0 5 5060 ket-07.isles.saltmarsh.example.`,
		`web HTTPS 1 . alpn=h2`, `text TXT "one" "two"`, `fixed A 198.51.100.200`, `fixed AAAA 2001:db8::200`, `odd TYPE731 \# 3 abcdef`,
		`empty TXT ""`, `place LOC 52 22 23.000 N 4 53 32.000 E -2.00m 0.00m 10000m 10m`, `host HINFO "x86" "linux"`,
		`who RP hostmaster.isles.saltmarsh.example. text.isles.saltmarsh.example.`,
		`link URI 10 1 "https://isles.example/"`, `fixed SSHFP 4 2 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef`,
		`_443._tcp.web TLSA 3 1 1 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef`,
		`calls NAPTR 10 100 "u" "E2U+sip" "!^.*$!sip:desk@isles.example!" .`, `moved DNAME elsewhere.example.`,
		`away DS 12345 13 2 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef`,
		`away NS ns1.away.isles.saltmarsh.example.`, `away NS ns.elsewhere.example.`, `ns1.away A 198.51.100.201`,
		`ns1.away AAAA 2001:db8::201`,
	} {
		w := strings.SplitN(r, " ", 3)
		name := zone
		if w[0] != "@" {
			name = w[0] + "." + zone
		}
		_, err := c.AddZoneRecord(ctx, zone, contract.RecordInput{Name: names.Name(name), Type: w[1], TTL: new(60), Data: w[2]})
		require.NoError(t, err, r)
	}
	agent = enrol(t, s, "KET-07")
	announce(t, agent, "198.51.100.7")
	_, err := agent.Announce(ctx, testbed.Says("2001:db8::7"))
	require.NoError(t, err)
	announce(t, enrol(t, s, "OYS-03"), "198.51.100.3")
	key, err = c.AddSigningKey(ctx, contract.SigningKeyInput{Name: "transfer.saltmarsh.example"})
	require.NoError(t, err)
	return s, key, agent
}

func secondary(t *testing.T, s *testbed.Service, key contract.SigningKey) testbed.Secondary {
	t.Helper()
	_, port, err := net.SplitHostPort(s.DNS)
	require.NoError(t, err)
	primary, err := strconv.Atoi(port)
	require.NoError(t, err)
	return testbed.Secondary{Zone: zone, Primary: primary, Key: key.Name, Secret: key.Secret, Listen: testbed.FreePort(t)}
}

func awaitSerial(t *testing.T, server string, want uint32, within time.Duration) {
	t.Helper()
	require.Eventually(t, func() bool { return testbed.Serial(server, zone) == want }, within, 20*time.Millisecond,
		"serial %d at %s, it has %d", want, server, testbed.Serial(server, zone))
}

func TestRealServersStandBesideUs(t *testing.T) {
	s, key, _ := stocked(t)
	_, err := s.Client.EditZone(t.Context(), zone, client.Fields{"transfer_key": key.Name}) // whoever is refused first waits for long
	require.NoError(t, err)
	at := secondary(t, s, key)
	bind := testbed.StartBIND(t, at)
	at.Listen = testbed.FreePort(t)
	nsd := testbed.StartNSD(t, at)
	at.Listen = testbed.FreePort(t)
	knot := testbed.StartKnot(t, at)
	z, err := s.Client.EditZone(t.Context(), zone, client.Fields{"notify": []string{bind.Addr(), nsd.Addr(), knot.Addr()}})
	require.NoError(t, err)
	for _, server := range []string{bind.Addr(), nsd.Addr(), knot.Addr()} {
		awaitSerial(t, server, z.Serial, 30*time.Second)
	}

	t.Run("names are verified there", func(t *testing.T) {
		require.EventuallyWithT(t, func(c *assert) {
			h, err := s.Client.Hostname(t.Context(), "ket-07."+zone)
			require.NoError(c, err)
			require.Len(c, h.Resolvers, 3)
			for _, view := range h.Resolvers {
				require.True(c, view.Authoritative)
				require.False(c, view.Differs, "%s gives %s", view.Server, view.Given)
			}
		}, 20*time.Second, 50*time.Millisecond)
	})
	t.Run("the same answers", func(t *testing.T) {
		sameAnswers(t, s.DNS, map[string]string{"BIND": bind.Addr(), "NSD": nsd.Addr(), "Knot": knot.Addr()})
	})

	t.Run("a move reaches them", func(t *testing.T) {
		router, err := testbed.NewRouter(t.Context(), s.Client, "KET-07", "main")
		require.NoError(t, err)
		for n := range 5 {
			address := fmt.Sprintf("198.51.100.%d", 70+n)
			require.NoError(t, router.Announce(t.Context(), address))
			acknowledged := time.Now()
			for _, server := range []string{bind.Addr(), nsd.Addr()} {
				require.Eventually(t, func() bool {
					got, _, _ := answers(t, server, "www.ket-07."+zone)
					return len(got) == 1 && got[0] == address
				}, 15*time.Second, 10*time.Millisecond)
				t.Logf("%s at %s after %s", address, server, time.Since(acknowledged).Round(time.Millisecond))
			}
		}
		require.Positive(t, counts(s).TransfersPart, "moves are transferred as differences")
	})

	t.Run("an edit reaches them", func(t *testing.T) {
		require.NoError(t, s.Client.RemoveAlias(t.Context(), "oysters."+zone))
		_, serial, _ := answers(t, s.DNS, zone)
		for _, server := range []string{bind.Addr(), nsd.Addr()} {
			awaitSerial(t, server, serial, 15*time.Second)
			_, _, rcode := answers(t, server, "oysters."+zone)
			require.Equal(t, dns.RcodeNameError, rcode)
		}
	})
}

// reply is what two servers have to agree on.
func reply(t *testing.T, server string, m *dns.Msg) string {
	t.Helper()
	c := dns.Client{Timeout: 2 * time.Second, UDPSize: 4096}
	r, _, err := c.Exchange(m, server)
	require.NoError(t, err, "%s at %s", m.Question, server)
	section := func(list []dns.RR) string {
		var lines []string
		for _, rr := range list {
			lines = append(lines, strings.ToLower(strings.Join(strings.Fields(rr.String()), " ")))
		}
		slices.Sort(lines)
		return strings.Join(lines, "\n    ")
	}
	opt := r.IsEdns0()
	return fmt.Sprintf("%s aa=%v tc=%v ra=%v edns=%v do=%v\n  answer\n    %s\n  authority\n    %s", dns.RcodeToString[r.Rcode],
		r.Authoritative, r.Truncated, r.RecursionAvailable, opt != nil, opt != nil && opt.Do(), section(r.Answer), section(r.Ns))
}

func sameAnswers(t *testing.T, ours string, theirs map[string]string) {
	t.Helper()
	labels := []string{"", "ns1", "ket-07", "KET-07", "www.ket-07", "any.ket-07", "a.b.ket-07", "*.ket-07", "below.www.ket-07",
		"oys-03", "below.oys-03", "deep.below.oys-03",
		"beside.below.oys-03", "lighthouse", "oysters", "below.lighthouse", "_tcp", "_sip._tcp", "web", "text", "fixed", "odd",
		"nobody", "no.body", "*", "away", "x.away", "ns1.away", "empty", "place", "host", "who", "link", "calls", "_443._tcp.web", "moved"}
	types := []uint16{dns.TypeA, dns.TypeAAAA, dns.TypeCNAME, dns.TypeMX, dns.TypeTXT, dns.TypeNS, dns.TypeSOA, dns.TypeSRV,
		dns.TypeCAA, dns.TypeHTTPS, 731, dns.TypeDS, dns.TypePTR,
		dns.TypeLOC, dns.TypeHINFO, dns.TypeRP, dns.TypeURI, dns.TypeSSHFP, dns.TypeTLSA, dns.TypeNAPTR, dns.TypeDNAME}
	asked := 0
	for _, label := range labels {
		name := zone + "."
		if label != "" {
			name = label + "." + name
		}
		for _, qtype := range types {
			for _, edns := range []string{"none", "plain", "DO"} {
				m := new(dns.Msg).SetQuestion(name, qtype)
				m.RecursionDesired = false
				if edns != "none" {
					m.SetEdns0(1232, edns == "DO")
				}
				asked++
				want := reply(t, ours, m)
				for who, server := range theirs {
					if got := reply(t, server, m); got != want && !choice(who, qtype, got, want) {
						t.Errorf("%s %s: %s answers\n  %s\nwe answer\n  %s", name, dns.Type(qtype), who, got, want)
					}
				}
			}
		}
	}
	t.Logf("%d questions", asked)
}

// choice says where we answer otherwise on purpose; docs/names.md gives the reasons. BIND gives the SOA record a TTL of 0
// where somebody asked for the SOA record of a name that does not exist.
func choice(who string, qtype uint16, got, want string) bool {
	return who == "BIND" && qtype == dns.TypeSOA && strings.HasPrefix(want, "NXDOMAIN") &&
		got == strings.Replace(want, zone+". 30 in soa", zone+". 0 in soa", 1)
}

func TestTransfersGoToWhomTheZoneNames(t *testing.T) {
	s, key, agent := stocked(t)
	transfer := func(edit func(*dns.Msg), secrets map[string]string) (records []dns.RR, err error) {
		m := new(dns.Msg).SetAxfr(zone + ".")
		if edit != nil {
			edit(m)
		}
		tr := dns.Transfer{TsigSecret: secrets, DialTimeout: 2 * time.Second, ReadTimeout: 2 * time.Second}
		ch, err := tr.In(m, s.DNS)
		if err != nil {
			return nil, err
		}
		for e := range ch {
			if e.Error != nil {
				return nil, e.Error
			}
			records = append(records, e.RR...)
		}
		return records, nil
	}
	name := key.Name + "."
	signed := func(m *dns.Msg) { m.SetTsig(name, dns.HmacSHA256, 300, time.Now().Unix()) }
	_, err := transfer(nil, nil)
	require.ErrorContains(t, err, "bad xfr rcode: 5", "nobody is named yet")
	_, err = s.Client.EditZone(t.Context(), zone, client.Fields{"transfer_key": key.Name})
	require.NoError(t, err)
	_, err = transfer(nil, nil)
	require.ErrorContains(t, err, "bad xfr rcode: 5")
	_, err = transfer(signed, map[string]string{name: "bm90IHRoZSBzZWNyZXQ="})
	require.Error(t, err, "another secret")
	whole, err := transfer(signed, map[string]string{name: key.Secret})
	require.NoError(t, err)
	require.IsType(t, &dns.SOA{}, whole[0])
	require.IsType(t, &dns.SOA{}, whole[len(whole)-1])
	require.Greater(t, len(whole), 25)
	before := whole[0].(*dns.SOA).Serial

	_, err = s.Client.EditZone(t.Context(), zone, client.Fields{"transfer_key": "", "transfer_to": []string{"127.0.0.0/8"}})
	require.NoError(t, err)
	announce(t, agent, "198.51.100.99")
	part, err := transfer(func(m *dns.Msg) { m.SetIxfr(zone+".", before, "ns1."+zone+".", "hostmaster."+zone+".") }, nil)
	require.NoError(t, err)
	var text []string
	for _, rr := range part {
		text = append(text, rr.String())
	}
	joined := strings.Join(text, "\n")
	require.Less(t, len(part), len(whole), "only what differs")
	require.Contains(t, joined, "198.51.100.7\n", "what went")
	require.Contains(t, joined, "198.51.100.99\n", "what came")
	now, err := transfer(func(m *dns.Msg) {
		m.SetIxfr(zone+".", part[0].(*dns.SOA).Serial, "ns1."+zone+".", "hostmaster."+zone+".")
	}, nil)
	require.NoError(t, err)
	require.Len(t, now, 1, "nothing is newer: the SOA alone")
	unknown, err := transfer(func(m *dns.Msg) { m.SetIxfr(zone+".", before-1000, "ns1."+zone+".", "hostmaster."+zone+".") }, nil)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(unknown), len(whole)-2, "too far behind: the whole zone")
	require.Positive(t, counts(s).TransfersRefused)
}
