package daemon_test

import (
	"encoding/binary"
	"fmt"
	"net"
	"os/exec"
	"strconv"
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
	k, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "ket-07-router.saltmarsh.example", Site: "KET-07", MayAnnounce: testbed.Public})
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

	require.Equal(t, "NOERROR", u.rcode(func(m *dns.Msg) { m.Remove([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.99")}) }), "another address than that is there")
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
		"another site's name":    {"REFUSED", one(oys + " 60 A 198.51.100.66")},
		"a name of nobody":       {"REFUSED", one("new." + zone + ". 60 A 198.51.100.66")},
		"the zone's apex":        {"REFUSED", one(zone + ". 60 A 198.51.100.66")},
		"the zone's own server":  {"REFUSED", one("ns1." + zone + ". 60 A 198.51.100.66")},
		"another type":           {"REFUSED", one(ket + ` 60 TXT "x"`)},
		"a private address":      {"REFUSED", one(ket + " 60 A 192.168.1.1")},
		"two addresses":          {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 198.51.100.1")(m); one(ket + " 60 A 198.51.100.2")(m) }},
		"no address left":        {"REFUSED", func(m *dns.Msg) { m.RemoveRRset([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.8")}) }},
		"one of two is foreign":  {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 198.51.100.9")(m); one(oys + " 60 A 198.51.100.9")(m) }},
		"proof and no address":   {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 192.168.1.1")(m); one(challenge + ` 60 TXT "x"`)(m) }},
		"address, foreign proof": {"REFUSED", func(m *dns.Msg) { one(ket + " 60 A 198.51.100.9")(m); one("_acme-challenge." + oys + ` 60 TXT "x"`)(m) }},
		"outside the zone":       {"NOTZONE", one("ket-07.elsewhere.example. 60 A 198.51.100.9")},
		"another zone":           {"NOTAUTH", func(m *dns.Msg) { m.Question[0].Name = "elsewhere.example." }},
		"no zone":                {"FORMERR", func(m *dns.Msg) { m.Question[0].Qtype = dns.TypeA }},
		"class of nothing":       {"FORMERR", func(m *dns.Msg) { one(ket + " 60 A 198.51.100.9")(m); m.Ns[0].Header().Class = dns.ClassCHAOS }},
		"deletion with a TTL":    {"FORMERR", func(m *dns.Msg) { m.RemoveRRset([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.9")}); m.Ns[0].Header().Ttl = 5 }},
		"name must be in use": {"NXDOMAIN", func(m *dns.Msg) {
			m.NameUsed([]dns.RR{rrOf(t, "nobody."+zone+". 0 A 198.51.100.9")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"name must not be": {"YXDOMAIN", func(m *dns.Msg) {
			m.NameNotUsed([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.9")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"set must be there": {"NXRRSET", func(m *dns.Msg) { m.RRsetUsed([]dns.RR{rrOf(t, ket+` 0 TXT "x"`)}); one(ket + " 60 A 198.51.100.9")(m) }},
		"set must not be there": {"YXRRSET", func(m *dns.Msg) {
			m.RRsetNotUsed([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.9")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"set must be just so": {"NXRRSET", func(m *dns.Msg) {
			m.Used([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.77")})
			one(ket + " 60 A 198.51.100.9")(m)
		}},
		"a condition outside":    {"NOTZONE", func(m *dns.Msg) { m.NameUsed([]dns.RR{rrOf(t, "a.elsewhere.example. 0 A 198.51.100.9")}) }},
		"a condition with a TTL": {"FORMERR", func(m *dns.Msg) { m.NameUsed([]dns.RR{rrOf(t, ket+" 0 A 198.51.100.9")}); m.Answer[0].Header().Ttl = 9 }},
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

func TestSignaturesAreChecked(t *testing.T) {
	s, key := routers(t)
	u := update{t, s, key}
	edit := func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }
	const wrong = "bm90IHRoZSBzZWNyZXQgb2YgdGhpcyBrZXkgYXQgYWxs"
	for name, c := range map[string]struct {
		key, secret, algorithm string
		signed                 time.Time
		rcode                  int
		failure                uint16
	}{
		"unsigned":          {"", "", "", time.Now(), dns.RcodeRefused, 0},
		"unknown key":       {"nobody.example", wrong, dns.HmacSHA256, time.Now(), dns.RcodeNotAuth, dns.RcodeBadKey},
		"another algorithm": {key.Name, key.Secret, dns.HmacSHA512, time.Now(), dns.RcodeNotAuth, dns.RcodeBadKey},
		"another secret":    {key.Name, wrong, dns.HmacSHA256, time.Now(), dns.RcodeNotAuth, dns.RcodeBadSig},
		"an old signature":  {key.Name, key.Secret, dns.HmacSHA256, time.Now().Add(-10 * time.Minute), dns.RcodeNotAuth, dns.RcodeBadTime},
		"one of tomorrow":   {key.Name, key.Secret, dns.HmacSHA256, time.Now().Add(24 * time.Hour), dns.RcodeNotAuth, dns.RcodeBadTime},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := u.send(c.key, c.secret, c.algorithm, c.signed, edit)
			require.NotNil(t, r, "%v", err)
			require.Equal(t, c.rcode, r.Rcode)
			if c.failure == 0 {
				require.Nil(t, r.IsTsig())
				return
			}
			tsig := r.IsTsig()
			require.NotNil(t, tsig)
			require.Equal(t, c.failure, tsig.Error)
			require.Equal(t, c.failure == dns.RcodeBadTime, tsig.MACSize > 0, "only a failure of time is signed (RFC 8945 section 5.3.2)")
			if c.failure == dns.RcodeBadTime {
				require.EqualValues(t, 6, tsig.OtherLen, "our clock goes along")
				ours, err := strconv.ParseUint(tsig.OtherData, 16, 64)
				require.NoError(t, err)
				require.InDelta(t, time.Now().Unix(), ours, 60)
				require.EqualValues(t, c.signed.Unix(), tsig.TimeSigned, "or else the client could not check it")
			}
		})
	}
	_, _, rcode := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, dns.RcodeNameError, rcode, "nothing was done")
	transfer, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "transfer.example", Algorithm: "hmac-sha512"})
	require.NoError(t, err)
	r, err := u.send(transfer.Name, transfer.Secret, dns.HmacSHA512, time.Now(), edit)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeRefused, r.Rcode, "a key for transfers updates nothing")

	counted := new(dns.Msg).SetUpdate(zone + ".")
	edit(counted)
	counted.SetTsig(key.Name+".", dns.HmacSHA256, 300, time.Now().Unix())
	raw, _, err := dns.TsigGenerate(counted, key.Secret, "", false)
	require.NoError(t, err)
	binary.BigEndian.PutUint16(raw[10:], 2) // additional records; there is one
	conn, err := net.Dial("udp", s.DNS)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
	_, err = conn.Write(raw)
	require.NoError(t, err)
	back := make([]byte, 512)
	n, err := conn.Read(back)
	require.NoError(t, err)
	require.NoError(t, r.Unpack(back[:n]))
	require.Equal(t, dns.RcodeFormatError, r.Rcode, "more records counted than there are")

	m := new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA)
	m.SetTsig(key.Name+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{TsigSecret: map[string]string{key.Name + ".": key.Secret}}
	r, _, err = c.Exchange(m, s.DNS)
	require.NoError(t, err, "the reply's signature holds")
	require.Len(t, r.Answer, 1)
	require.NotNil(t, r.IsTsig())
	require.NoError(t, s.Client.RemoveSigningKey(t.Context(), key.Name))
	r, _ = u.send(key.Name, key.Secret, dns.HmacSHA256, time.Now(), edit)
	require.Equal(t, dns.RcodeNotAuth, r.Rcode, "a key that was removed is unknown at once")
}

func TestTheUsualProgramForUpdates(t *testing.T) {
	s, key := routers(t)
	host, port, _ := strings.Cut(s.DNS, ":")
	for _, flag := range []string{"", "-v"} { // UDP, TCP
		script := fmt.Sprintf("server %s %s\nzone %s\nupdate delete %s A\nupdate add %s 60 A 198.51.100.4%d\nsend\n", host, port, zone, ket, ket, len(flag))
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

func TestUpdatesWithAWrongSecretBecomeVisibleAtTheSite(t *testing.T) {
	s, k := routers(t)
	u := update{t, s, k}
	for range 3 {
		_, _ = u.send(k.Name, "d3Jvbmcgc2VjcmV0IG9mIGEgcm91dGVyIHNvbWV3aGVyZQ==", dns.HmacSHA256, time.Now(), func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 30 A 198.51.100.9")}) })
		_, _ = u.send("nobody.saltmarsh.example", "d3Jvbmcgc2VjcmV0IG9mIGEgcm91dGVyIHNvbWV3aGVyZQ==", dns.HmacSHA256, time.Now(), func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 30 A 198.51.100.9")}) })
	}
	require.EventuallyWithT(t, func(c *assert) {
		l, err := s.Client.Link(t.Context(), "KET-07", "main")
		require.NoError(c, err)
		require.NotNil(c, l.Report)
		require.Len(c, l.Report.Refused, 1)
		require.Equal(c, 3, l.Report.Refused[0].Count)
		require.Contains(c, l.Report.Refused[0].Reason, "an update is signed with a wrong secret")
	}, 10*time.Second, 50*time.Millisecond)
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
	require.Equal(t, "REFUSED", u.rcode(func(m *dns.Msg) { m.RemoveName([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }), "a link keeps its address until it has another")

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

func TestASignatureIsTheLastRecordAndTheOnlyOne(t *testing.T) {
	s, key := routers(t)
	require.Equal(t, "NOERROR", update{t, s, key}.rcode(func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }))
	signed := func() []byte {
		m := new(dns.Msg).SetQuestion(ket, dns.TypeA).SetTsig(key.Name+".", dns.HmacSHA256, 300, time.Now().Unix())
		packet, _, err := dns.TsigGenerate(m, key.Secret, "", false)
		require.NoError(t, err)
		return packet
	}
	plain, err := new(dns.Msg).SetQuestion(ket, dns.TypeA).Pack()
	require.NoError(t, err)
	tsig := signed()[len(plain):]
	more := func(packet []byte, records ...[]byte) []byte {
		out := append([]byte(nil), packet...)
		for _, r := range records {
			out = append(out, r...)
		}
		binary.BigEndian.PutUint16(out[10:], uint16(len(records)))
		return out
	}
	a := []byte{0, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 198, 51, 100, 7}
	empty := append(append([]byte(nil), tsig[:strings.IndexByte(string(tsig), 0)+1]...), 0, 250, 0, 255, 0, 0, 0, 0, 0, 0)
	loop := append([]byte{0xC0, byte(len(plain))}, a[1:]...) // a pointer to itself
	ahead := append([]byte{0xC0, byte(len(plain) + 4)}, a[1:]...)
	back := append([]byte{0xC0, 12}, a[1:]...) // to the question's name, as is usual
	send := func(packet []byte) *dns.Msg {
		c, err := net.Dial("udp", s.DNS)
		require.NoError(t, err)
		defer c.Close()
		_, err = c.Write(packet)
		require.NoError(t, err)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(3*time.Second)))
		buffer := make([]byte, 4096)
		n, err := c.Read(buffer)
		require.NoError(t, err)
		r := new(dns.Msg)
		require.NoError(t, r.Unpack(buffer[:n]))
		return r
	}
	for name, x := range map[string]struct {
		packet []byte
		want   string
	}{
		"as it should be": {signed(), "NOERROR"}, "two": {more(plain, tsig, tsig), "FORMERR"}, "not the last": {more(plain, tsig, a), "FORMERR"},
		"without data": {more(plain, empty), "FORMERR"}, "a pointer to itself": {more(plain, loop), "FORMERR"}, "a pointer ahead": {more(plain, ahead), "FORMERR"},
		"a pointer back": {more(plain, back), "NOERROR"},
	} {
		require.Equal(t, x.want, dns.RcodeToString[send(x.packet).Rcode], name)
	}
	for _, do := range []bool{true, false} {
		m := new(dns.Msg).SetQuestion(ket, dns.TypeA).SetEdns0(1232, do)
		packet, err := m.Pack()
		require.NoError(t, err)
		require.Equal(t, do, send(packet).IsEdns0().Do(), "DO is copied (RFC 3225 section 3)")
	}
}
