package daemon_test

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// routers is a service with two sites, a hostname each, and the first site's key.
func routers(t *testing.T) (*testbed.Service, contract.SigningKey) {
	t.Helper()
	s := testbed.Start(t, nil)
	for _, code := range []string{"KET-07", "OYS-03"} {
		record(t, s, code)
		_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: strings.ToLower(code) + "." + zone, Site: code})
		require.NoError(t, err)
	}
	k, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "ket-07-router.saltmarsh.example", Site: "KET-07",
		MayAnnounce: testbed.Public})
	require.NoError(t, err)
	return s, k
}

const ket, oys = "ket-07." + zone + ".", "oys-03." + zone + "."

type update struct {
	t   *testing.T
	s   *testbed.Service
	key contract.SigningKey
}

// send makes an update, edits it, signs it with a key of that name and secret where name is not empty, and returns the reply.
func (u update) send(name, secret, algorithm string, signed time.Time, edit func(*dns.Msg)) (*dns.Msg, error) {
	u.t.Helper()
	m := new(dns.Msg).SetUpdate(zone + ".")
	edit(m)
	c := dns.Client{Timeout: 3 * time.Second}
	if name != "" {
		m.SetTsig(name+".", algorithm, 300, signed.Unix())
		c.TsigSecret = map[string]string{name + ".": secret}
	}
	r, _, err := c.Exchange(m, u.s.DNS)
	return r, err
}

func (u update) rcode(edit func(*dns.Msg)) string {
	u.t.Helper()
	r, err := u.send(u.key.Name, u.key.Secret, dns.HmacSHA256, time.Now(), edit)
	require.NotNil(u.t, r, "%v", err) // the client takes NOTAUTH for an error of its own
	return dns.RcodeToString[r.Rcode]
}

func rrOf(t *testing.T, text string) dns.RR {
	t.Helper()
	rr, err := dns.NewRR(text)
	require.NoError(t, err)
	return rr
}

func TestUpdatesOfOnesOwnNames(t *testing.T) {
	s, key := routers(t)
	u := update{t, s, key}
	one := func(text string) func(*dns.Msg) { return func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, text)}) } }
	replace := func(name, text string) func(*dns.Msg) {
		return func(m *dns.Msg) {
			m.RemoveRRset([]dns.RR{&dns.A{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeA, Class: dns.ClassINET}}})
			m.Insert([]dns.RR{rrOf(t, text)})
		}
	}
	require.Equal(t, "NOERROR", u.rcode(one(ket+" 60 A 198.51.100.7")))
	got, serial, _ := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, []string{"198.51.100.7"}, got, "acknowledged means answering")
	require.Equal(t, "NOERROR", u.rcode(replace(ket, ket+" 60 A 198.51.100.8")))
	got, next, _ := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, []string{"198.51.100.8"}, got)
	require.Greater(t, next, serial)
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Link: "main", Limit: 10})
	require.NoError(t, err)
	require.Len(t, moves, 2, "an update is an announcement with its history")
	require.Equal(t, "NOERROR", u.rcode(replace(ket, ket+" 60 A 198.51.100.8")), "the same again changes nothing")
	_, same, _ := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, next, same)

	require.Equal(t, "NOERROR", u.rcode(one(ket+" 60 AAAA 2001:db8::8")))
	require.Equal(t, []string{"2001:db8::8"}, ask(t, s.DNS, "ket-07."+zone, dns.TypeAAAA))
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.RemoveRRset([]dns.RR{rrOf(t, ket+" 60 AAAA 2001:db8::8")}) }))
	require.Empty(t, ask(t, s.DNS, "ket-07."+zone, dns.TypeAAAA), "a link that lost one family keeps the other")
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "ket-07."+zone, dns.TypeA))

	challenge := "_acme-challenge." + ket
	require.Equal(t, "NOERROR", u.rcode(one(challenge+` 60 TXT "proof one"`)))
	require.Equal(t, "NOERROR", u.rcode(one(challenge+` 60 TXT "proof two"`)))
	text := func() (out []string) {
		r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(challenge, dns.TypeTXT), s.DNS)
		require.NoError(t, err)
		for _, rr := range r.Answer {
			out = append(out, rr.(*dns.TXT).Txt[0])
		}
		return out
	}
	require.ElementsMatch(t, []string{"proof one", "proof two"}, text())
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.Remove([]dns.RR{rrOf(t, challenge+` 60 TXT "proof one"`)}) }))
	require.Equal(t, []string{"proof two"}, text())
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { // one after the other, in their order
		m.RemoveRRset([]dns.RR{rrOf(t, challenge+` 60 TXT "x"`)})
		one(challenge + ` 60 TXT "proof two"`)(m)
		one(challenge + ` 60 TXT "proof three"`)(m)
		one(challenge + ` 60 TXT "proof three"`)(m)
	}))
	require.ElementsMatch(t, []string{"proof two", "proof three"}, text())
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.RemoveName([]dns.RR{rrOf(t, challenge+` 60 TXT "x"`)}) }))
	require.Empty(t, text())

	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.Remove([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.99")}) }),
		"another address than that is there")
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "ket-07."+zone, dns.TypeA))
	_, before, _ := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { // an address and a proof in one go
		m.Remove([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.8")})
		one(ket + " 60 A 198.51.100.18")(m)
		one(challenge + ` 60 TXT "both"`)(m)
	}))
	require.Equal(t, []string{"both"}, text())
	got, after, _ := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, []string{"198.51.100.18"}, got)
	require.Greater(t, after, before)
	moves, err = s.Client.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Link: "main", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "198.51.100.18", moves[0].New)
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) {
		m.RemoveRRset([]dns.RR{rrOf(t, challenge+` 60 TXT "x"`)})
		one(ket + " 60 A 198.51.100.8")(m)
	}))
	require.Empty(t, text())
	_, same, _ = answers(t, s.DNS, "ket-07."+zone)

	for name, c := range map[string]struct {
		want string
		edit func(*dns.Msg)
	}{
		"another site's name":   {"REFUSED", one(oys + " 60 A 198.51.100.66")},
		"a name of nobody":      {"REFUSED", one("new." + zone + ". 60 A 198.51.100.66")},
		"the zone's apex":       {"REFUSED", one(zone + ". 60 A 198.51.100.66")},
		"the zone's own server": {"REFUSED", one("ns1." + zone + ". 60 A 198.51.100.66")},
		"another type":          {"REFUSED", one(ket + ` 60 TXT "x"`)},
		"a private address":     {"REFUSED", one(ket + " 60 A 192.168.1.1")},
		"two addresses":         {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 198.51.100.1")(m); one(ket + " 60 A 198.51.100.2")(m) }},
		"no address left":       {"REFUSED", func(m *dns.Msg) { m.RemoveRRset([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.8")}) }},
		"one of two is foreign": {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 198.51.100.9")(m); one(oys + " 60 A 198.51.100.9")(m) }},
		"proof and no address":  {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 192.168.1.1")(m); one(challenge + ` 60 TXT "x"`)(m) }},
		"address, foreign proof": {"REFUSED", func(m *dns.Msg) {
			one(ket + " 60 A 198.51.100.9")(m)
			one("_acme-challenge." + oys +
				` 60 TXT "x"`)(m)
		}},
		"outside the zone": {"NOTZONE", one("ket-07.elsewhere.example. 60 A 198.51.100.9")},
		"another zone":     {"NOTAUTH", func(m *dns.Msg) { m.Question[0].Name = "elsewhere.example." }},
		"no zone":          {"FORMERR", func(m *dns.Msg) { m.Question[0].Qtype = dns.TypeA }},
		"class of nothing": {"FORMERR", func(m *dns.Msg) {
			one(ket +
				" 60 A 198.51.100.9")(m)
			m.Ns[0].Header().Class = dns.ClassCHAOS
		}},
		"deletion with a TTL": {"FORMERR", func(m *dns.Msg) {
			m.RemoveRRset([]dns.RR{rrOf(t,
				ket+" 60 A 198.51.100.9")})
			m.Ns[0].Header().Ttl = 5
		}},
		"name must be in use": {"NXDOMAIN", func(m *dns.Msg) {
			m.NameUsed([]dns.RR{rrOf(t, "nobody."+zone+". 0 A 198.51.100.9")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"name must not be": {"YXDOMAIN", func(m *dns.Msg) {
			m.NameNotUsed([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.9")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"set must be there": {"NXRRSET", func(m *dns.Msg) {
			m.RRsetUsed([]dns.RR{rrOf(t, ket+` 0 TXT "x"`)})
			one(ket +
				" 60 A 198.51.100.9")(m)
		}},
		"set must not be there": {"YXRRSET", func(m *dns.Msg) {
			m.RRsetNotUsed([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.9")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"set must be just so": {"NXRRSET", func(m *dns.Msg) {
			m.Used([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.77")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"a condition outside": {"NOTZONE", func(m *dns.Msg) { m.NameUsed([]dns.RR{rrOf(t, "a.elsewhere.example. 0 A 198.51.100.9")}) }},
		"a condition with a TTL": {"FORMERR", func(m *dns.Msg) {
			m.NameUsed([]dns.RR{rrOf(t,
				ket+" 0 A 198.51.100.9")})
			m.Answer[0].Header().Ttl = 9
		}},
	} {
		t.Run(name, func(t *testing.T) {
			require.Equal(t, c.want, u.rcode(c.edit))
			got, now, _ := answers(t, s.DNS, "ket-07."+zone)
			require.Equal(t, []string{"198.51.100.8"}, got, "nothing was done")
			require.Equal(t, 0, len(text()))
			require.GreaterOrEqual(t, now, same)
		})
	}
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { // every condition holds
		m.Used([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.8")})
		m.NameNotUsed([]dns.RR{rrOf(t, "nobody."+zone+". 0 A 198.51.100.9")})
		one(ket + " 60 AAAA 2001:db8::7")(m)
	}))
	h, err := s.Client.Hostname(t.Context(), "ket-07."+zone)
	require.NoError(t, err)
	require.Equal(t, "2001:db8::7", h.IPv6.String())
}

func TestTheUsualProgramForUpdates(t *testing.T) {
	s, key := routers(t)
	host, port, _ := strings.Cut(s.DNS, ":")
	for _, flag := range []string{"", "-v"} { // UDP, TCP
		script := fmt.Sprintf("server %s %s\nzone %s\nupdate delete %s A\nupdate add %s 60 A 198.51.100.4%d\nsend\n", host, port,
			zone, ket, ket, len(flag))
		args := append(strings.Fields(flag), "-y", "hmac-sha256:"+key.Name+":"+key.Secret)
		cmd := exec.Command("nsupdate", args...)
		cmd.Stdin = strings.NewReader(script)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		got, _, _ := answers(t, s.DNS, "ket-07."+zone)
		require.Equal(t, []string{fmt.Sprintf("198.51.100.4%d", len(flag))}, got)
	}
	cmd := exec.Command("nsupdate", "-y", "hmac-sha256:"+key.Name+":"+key.Secret)
	cmd.Stdin = strings.NewReader(fmt.Sprintf("server %s %s\nzone %s\nupdate add %s 60 A 198.51.100.66\nsend\n", host, port, zone, oys))
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "REFUSED")
}

func TestAnUpdateThatDeletesANameAndAddsItsAddressIsOneChange(t *testing.T) {
	s, key := routers(t)
	u := update{t, s, key}
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }))
	whole := func(text string) func(*dns.Msg) {
		return func(m *dns.Msg) {
			m.RemoveName([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")})
			m.Insert([]dns.RR{rrOf(t, text)})
		}
	}
	require.Equal(t, "NOERROR", u.rcode(whole(ket+" 60 A 198.51.100.8")))
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "ket-07."+zone, dns.TypeA))
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Limit: 10})
	require.NoError(t, err)
	require.Len(t, moves, 2)
	require.Equal(t, "198.51.100.7", moves[0].Old)
	require.Equal(t, "198.51.100.8", moves[0].New)
	require.Equal(t, "REFUSED", u.rcode(func(m *dns.Msg) { m.RemoveName([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }),
		"a link keeps its address until it has another")

	require.Equal(t, "REFUSED", u.rcode(whole(ket+" 60 A 192.168.7.20")))
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.NotEmpty(t, l.Report.Refused)
	require.Contains(t, l.Report.Refused[len(l.Report.Refused)-1].Reason, "192.168.7.20 is a private address", "the site learns why")
	require.Equal(t, []string{"198.51.100.8"}, ask(t, s.DNS, "ket-07."+zone, dns.TypeA))
}

func TestWhatAnUpdateAsksToBeSoIsSoWhenItIsCarriedOut(t *testing.T) {
	s, key := routers(t)
	u := update{t, s, key}
	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.1")}) }))
	now := "198.51.100.1"
	for round := range 12 {
		took := make(chan string, 5)
		for client := range cap(took) {
			to := fmt.Sprintf("198.51.100.%d", 10+round*10+client)
			go func() {
				rcode := u.rcode(func(m *dns.Msg) {
					m.Used([]dns.RR{rrOf(t, ket+" 0 A "+now)})
					m.RemoveRRset([]dns.RR{rrOf(t, ket+" 0 A "+now)})
					m.Insert([]dns.RR{rrOf(t, ket+" 60 A "+to)})
				})
				if rcode == "NOERROR" {
					took <- to
				} else {
					took <- ""
				}
			}()
		}
		var winners []string
		for range cap(took) {
			if to := <-took; to != "" {
				winners = append(winners, to)
			}
		}
		require.Len(t, winners, 1, "round %d", round)
		now = winners[0]
		require.Equal(t, []string{now}, ask(t, s.DNS, "ket-07."+zone, dns.TypeA))
	}
}
