package authdns

import (
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"context"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// rich is a zone with aliases, wildcards, a delegation and several types at one name.
func rich(t testing.TB) *Zone {
	t.Helper()
	content := Names{}
	for _, line := range strings.Split(strings.TrimSpace(`
@ 300 NS ns1.@
ns1.@ 300 A 198.51.100.1
ket.@ 30 A 198.51.100.7
ket.@ 30 AAAA 2001:db8::7
ket.@ 30 MX 10 ket.@
*.ket.@ 30 A 198.51.100.7
a.ket.@ 30 TXT "here"
lamp.@ 30 CNAME KET.@
far.@ 30 CNAME www.elsewhere.example.
gone.@ 30 CNAME nobody.@
star.@ 30 CNAME x.ket.@
one.@ 30 CNAME two.@
two.@ 30 CNAME one.@
away.@ 60 NS ns.away.@
away.@ 60 NS ns.elsewhere.example.
ns.away.@ 60 A 198.51.100.201
into.@ 30 CNAME deep.away.@
`), "\n") {
		record := rr(t, strings.ReplaceAll(line, "@", apex))
		name := strings.ToLower(record.Header().Name)
		added := false
		for i, s := range content[name] {
			if s.rrtype == record.Header().Rrtype {
				more, err := NewRRset(record)
				require.NoError(t, err)
				content[name][i].wire = append(content[name][i].wire, more.wire...)
				content[name][i].count++
				added = true
			}
		}
		if !added {
			s, err := NewRRset(record)
			require.NoError(t, err)
			content[name] = append(content[name], s)
		}
	}
	z, err := NewZone(rr(t, apex+" 300 SOA ns1."+apex+" hostmaster."+apex+" 7 3600 300 1209600 30").(*dns.SOA), content)
	require.NoError(t, err)
	return z
}

func short(m *dns.Msg) string {
	var parts []string
	for _, section := range [][]dns.RR{m.Answer, m.Ns, m.Extra} {
		var words []string
		for _, r := range section {
			if r.Header().Rrtype == dns.TypeOPT {
				continue
			}
			f := strings.Fields(r.String())
			words = append(words, strings.ToLower(strings.TrimSuffix(f[0], "."+apex))+" "+f[3]+" "+strings.Join(f[4:5], " "))
		}
		parts = append(parts, strings.Join(words, ", "))
	}
	return strings.ReplaceAll(fmt.Sprintf("%s aa=%v | %s", dns.RcodeToString[m.Rcode], m.Authoritative, strings.Join(parts, " | ")),
		"."+apex, "")
}

func TestAliasesWildcardsAndDelegations(t *testing.T) {
	d := &Directory{}
	d.Put(rich(t))
	out := make([]byte, dns.MaxMsgSize)
	soa := apex + " SOA ns1"
	for _, c := range []struct{ name, qtype, want string }{
		{"lamp", "A", "NOERROR aa=true | lamp CNAME KET, ket A 198.51.100.7 |  | "},
		{"LAMP", "AAAA", "NOERROR aa=true | lamp CNAME KET, ket AAAA 2001:db8::7 |  | "},
		{"lamp", "CNAME", "NOERROR aa=true | lamp CNAME KET |  | "},
		{"lamp", "TXT", "NOERROR aa=true | lamp CNAME KET | " + soa + " | "},
		{"far", "A", "NOERROR aa=true | far CNAME www.elsewhere.example. |  | "},
		{"gone", "A", "NXDOMAIN aa=true | gone CNAME nobody | " + soa + " | "},
		{"star", "A", "NOERROR aa=true | star CNAME x.ket, x.ket A 198.51.100.7 |  | "},
		{"x.ket", "A", "NOERROR aa=true | x.ket A 198.51.100.7 |  | "},
		{"x.y.ket", "A", "NOERROR aa=true | x.y.ket A 198.51.100.7 |  | "},
		{"x.ket", "MX", "NOERROR aa=true |  | " + soa + " | "},
		{"a.ket", "A", "NOERROR aa=true |  | " + soa + " | "},
		{"below.a.ket", "A", "NXDOMAIN aa=true |  | " + soa + " | "},
		{"*.ket", "A", "NOERROR aa=true | *.ket A 198.51.100.7 |  | "},
		{"away", "A", "NOERROR aa=false |  | away NS ns.away, away NS ns.elsewhere.example. | ns.away A 198.51.100.201"},
		{"away", "NS", "NOERROR aa=false |  | away NS ns.away, away NS ns.elsewhere.example. | ns.away A 198.51.100.201"},
		{"away", "DS", "NOERROR aa=true |  | " + soa + " | "},
		{"x.away", "DS", "NOERROR aa=false |  | away NS ns.away, away NS ns.elsewhere.example. | ns.away A 198.51.100.201"},
		{"deep.x.away", "TXT", "NOERROR aa=false |  | away NS ns.away, away NS ns.elsewhere.example. | ns.away A 198.51.100.201"},
		{"ns.away", "A", "NOERROR aa=false |  | away NS ns.away, away NS ns.elsewhere.example. | ns.away A 198.51.100.201"},
		{"into", "A", "NOERROR aa=true | into CNAME deep.away | away NS ns.away, away NS ns.elsewhere.example. | ns.away A 198.51.100.201"},
	} {
		req, err := new(dns.Msg).SetQuestion(c.name+"."+apex, dns.StringToType[c.qtype]).Pack()
		require.NoError(t, err)
		var m dns.Msg
		require.NoError(t, m.Unpack(out[:d.respond(req, out, false)]))
		require.Equal(t, strings.ReplaceAll(c.want, "."+apex, ""), short(&m), "%s %s", c.name, c.qtype)
	}
	// Aliases in a circle end, and the answer holds what was found.
	req, err := new(dns.Msg).SetQuestion("one."+apex, dns.TypeA).Pack()
	require.NoError(t, err)
	var m dns.Msg
	require.NoError(t, m.Unpack(out[:d.respond(req, out, false)]))
	require.LessOrEqual(t, len(m.Answer), maxChase)
}

func TestReplaceRemembersWhatDiffers(t *testing.T) {
	z := zone(t)
	soa := func(serial uint32) *dns.SOA {
		s := *z.soa.Load().record
		s.Serial = serial
		return &s
	}
	require.NoError(t, z.Replace(soa(8), Names{apex: {set(t, apex+" 300 NS ns1."+apex)},
		"ns1." + apex:    {set(t, "ns1."+apex+" 300 A 198.51.100.1")},
		"ket-07." + apex: {set(t, "ket-07."+apex+" 30 A 198.51.100.8")}}))
	_, list, ok := z.changes(7)
	require.True(t, ok)
	require.Len(t, list, 1)
	require.Len(t, list[0].removed, 63, "60 addresses, A and AAAA, and what was below")
	require.Len(t, list[0].added, 1)
	require.NoError(t, z.Replace(soa(8), Names{apex: {set(t, apex+" 300 NS ns1."+apex)},
		"ns1." + apex:    {set(t, "ns1."+apex+" 300 A 198.51.100.1")},
		"ket-07." + apex: {set(t, "ket-07."+apex+" 30 A 198.51.100.8")}}))
	_, list, ok = z.changes(8)
	require.True(t, ok)
	require.Empty(t, list, "our own serial: nothing is newer")
	for i := range 20 {
		require.NoError(t, z.Set(Names{"ket-07." + apex: {set(t, fmt.Sprintf("ket-07.%s 30 A 198.51.100.%d", apex, 100+i))}}, uint32(9+i)))
	}
	_, list, ok = z.changes(20)
	require.True(t, ok)
	require.Len(t, list, 8)
	require.EqualValues(t, 20, list[0].from)
	require.EqualValues(t, 28, list[7].to)
	_, _, ok = z.changes(3)
	require.False(t, ok, "not remembered")
	_, list, ok = z.changes(1000)
	require.True(t, ok)
	require.Empty(t, list, "a secondary that is ahead gets our SOA alone")
	all, err := z.Records("ket-07." + apex)
	require.NoError(t, err)
	require.Len(t, all, 1)
	all, err = z.Records(apex)
	require.NoError(t, err)
	require.Len(t, all, 2, "SOA and NS")
}

func TestTheJournalIsBounded(t *testing.T) {
	var j journal
	for i := range uint32(maxJournal) {
		j.add(delta{from: i, to: i + 1, removed: make([]record, 1), added: make([]record, 1)})
	}
	require.LessOrEqual(t, j.records, maxJournal)
	_, ok := j.since(maxJournal - 10)
	require.True(t, ok)
	_, ok = j.since(5)
	require.False(t, ok, "the oldest are forgotten")
}

// open lets everybody have everything.
type open struct{}

func (open) Secret(string) (string, string, bool)        { return "", "", false }
func (open) MayTransfer(string, netip.Addr, string) bool { return true }
func (open) Unproven(string, netip.Addr)                 {}
func (open) Update(_ context.Context, _ *dns.Msg, _ string, _ netip.Addr, reply func(int, bool)) {
	reply(dns.RcodeRefused, false)
}

func TestALargeZoneIsTransferredInManyMessages(t *testing.T) {
	content := Names{apex: {set(t, apex+" 300 NS ns1.elsewhere.example.")}}
	for i := range 5000 {
		name := fmt.Sprintf("a-rather-long-name-number-%d.%s", i, apex)
		content[name] = []RRset{set(t, fmt.Sprintf("%s 30 A 198.51.100.%d", name, i%250+1))}
	}
	z, err := NewZone(rr(t, apex+" 300 SOA ns1.elsewhere.example. hostmaster."+apex+" 7 3600 300 1209600 30").(*dns.SOA), content)
	require.NoError(t, err)
	d := &Directory{}
	d.Put(z)
	s, err := Listen("127.0.0.1:0", d, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	s.Allow(open{})
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { _ = s.Serve(ctx); close(ended) }()
	t.Cleanup(func() { stop(); <-ended })
	tr := dns.Transfer{ReadTimeout: 5 * time.Second}
	ch, err := tr.In(new(dns.Msg).SetAxfr(apex), s.Addr())
	require.NoError(t, err)
	messages, got := 0, map[string]bool{}
	for e := range ch {
		require.NoError(t, e.Error)
		messages++
		for _, r := range e.RR {
			got[r.String()] = true
		}
	}
	require.Greater(t, messages, 5)
	require.Len(t, got, 5002)
	require.EqualValues(t, 1, s.Counts().TransfersWhole)

	// Over UDP a difference is not sent: the SOA alone says what is newest.
	m := new(dns.Msg).SetIxfr(apex, 3, "ns1.elsewhere.example.", "hostmaster."+apex)
	r, _, err := new(dns.Client).Exchange(m, s.Addr())
	require.NoError(t, err)
	require.Len(t, r.Answer, 1)
	m = new(dns.Msg).SetQuestion("elsewhere.example.", dns.TypeAXFR)
	c := dns.Client{Net: "tcp"}
	r, _, err = c.Exchange(m, s.Addr())
	require.NoError(t, err)
	require.Equal(t, dns.RcodeNotAuth, r.Rcode, "not our zone (RFC 5936 section 2.2.1)")
	m = new(dns.Msg).SetQuestion(apex, dns.TypeIXFR)
	r, _, err = c.Exchange(m, s.Addr())
	require.NoError(t, err)
	require.Equal(t, dns.RcodeFormatError, r.Rcode, "without the SOA that the secondary has")
}

func TestIsSlow(t *testing.T) {
	pack := func(m *dns.Msg) []byte {
		b, err := m.Pack()
		require.NoError(t, err)
		return b
	}
	plain := new(dns.Msg).SetQuestion(apex, dns.TypeA)
	require.False(t, isSlow(pack(plain)))
	require.False(t, isSlow(pack(plain.SetEdns0(1232, false))))
	require.True(t, isSlow(pack(new(dns.Msg).SetAxfr(apex))))
	require.True(t, isSlow(pack(new(dns.Msg).SetUpdate(apex))))
	signed := new(dns.Msg).SetQuestion(apex, dns.TypeA).SetEdns0(1232, false)
	signed.SetTsig("k.example.", dns.HmacSHA256, 300, 1)
	require.True(t, isSlow(pack(signed)))
	for cut := range pack(signed) {
		isSlow(pack(signed)[:cut]) // reads no further than there is
	}
	response := pack(new(dns.Msg).SetUpdate(apex))
	response[2] |= 0x80
	require.False(t, isSlow(response))
}

func FuzzRespond(f *testing.F) {
	d := &Directory{}
	d.Put(rich(f))
	for _, name := range []string{apex, "lamp." + apex, "x.ket." + apex, "into." + apex, "elsewhere.example."} {
		b, err := new(dns.Msg).SetQuestion(name, dns.TypeA).SetEdns0(1232, false).Pack()
		require.NoError(f, err)
		f.Add(b)
	}
	out := make([]byte, dns.MaxMsgSize)
	f.Fuzz(func(t *testing.T, req []byte) {
		isSlow(req)
		if n := d.respond(req, out, false); n > 0 {
			var m dns.Msg
			require.NoError(t, m.Unpack(out[:n]))
			require.LessOrEqual(t, n, bufferSize)
		}
	})
}
