package daemon_test

import (
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// exported gives a zone as its file.
func exported(t *testing.T, s *testbed.Service, apex string) string {
	t.Helper()
	var text strings.Builder
	require.NoError(t, s.Client.ExportZone(t.Context(), apex, &text))
	return text.String()
}

func TestAZoneGoesOutAsAFileAndComesBackTheSame(t *testing.T) {
	s, _, _ := stocked(t)
	text := exported(t, s, zone)
	require.Contains(t, text, "ket-07."+zone+".\t30\tIN\tA\t198.51.100.7\n", "addresses as they are now")
	parser := dns.NewZoneParser(strings.NewReader(text), "", "")
	count := 0
	for _, more := parser.Next(); more; _, more = parser.Next() {
		count++
	}
	require.NoError(t, parser.Err(), "any reader of zone files takes it")
	require.Greater(t, count, 20)

	again, err := s.Client.ImportZone(t.Context(), zone, strings.NewReader(text),
		contract.ZoneImportInput{Replace: true, ReplaceServers: true, DryRun: true})
	require.NoError(t, err)
	require.Empty(t, again.Added)
	require.Empty(t, again.Removed)
	require.Equal(t, 23, again.Same, "all records that people put there")
	require.False(t, again.Carried)

	// Another service makes the zone from the file; what followed a site's address there is fixed here.
	other := testbed.Start(t, nil)
	made, err := other.Client.ImportZone(t.Context(), zone, strings.NewReader(text), contract.ZoneImportInput{})
	require.NoError(t, err)
	require.True(t, made.New)
	require.Equal(t, []string{"198.51.100.7"}, ask(t, other.DNS, "ket-07."+zone, dns.TypeA))
	require.Equal(t, []string{"ket-07." + zone + ".", "198.51.100.7"}, ask(t, other.DNS, "lighthouse."+zone, dns.TypeA),
		"the alias came as a CNAME record")
	ours, err := s.Client.Zone(t.Context(), zone)
	require.NoError(t, err)
	theirs, err := other.Client.Zone(t.Context(), zone)
	require.NoError(t, err)
	require.False(t, names.SerialAfter(ours.Serial, theirs.Serial), "secondaries of the old primary take the new one's zone")
	require.Equal(t, ours.Servers, theirs.Servers)
	// SOA and servers of a zone on record are the file's only when somebody asks for it; both times it is said.
	const moved = "$TTL 60\n@ SOA hidden.saltmarsh.example. post.saltmarsh.example. 9 7200 600 1209600 60\n@ NS ns8.elsewhere.example.\n"
	kept, err := other.Client.ImportZone(t.Context(), zone, strings.NewReader(moved), contract.ZoneImportInput{DryRun: true})
	require.NoError(t, err)
	require.True(t, kept.ServersKept)
	require.Contains(t, kept.Servers, "servers: ns8.elsewhere.example instead of ns1."+zone+" 198.51.100.1")
	_, err = other.Client.ImportZone(t.Context(), zone, strings.NewReader(moved), contract.ZoneImportInput{})
	require.NoError(t, err)
	still, err := other.Client.Zone(t.Context(), zone)
	require.NoError(t, err)
	require.Equal(t, theirs.Servers, still.Servers)
	lines := func(text string) []string { return strings.Split(text, "\n")[3:] } // behind $ORIGIN, $TTL, SOA
	require.Equal(t, lines(text), lines(exported(t, other, zone)))
	taken, err := other.Client.ImportZone(t.Context(), zone, strings.NewReader(moved), contract.ZoneImportInput{ReplaceServers: true})
	require.NoError(t, err)
	require.False(t, taken.ServersKept)
	r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), other.DNS)
	require.NoError(t, err)
	require.Equal(t, "hidden.saltmarsh.example.", r.Answer[0].(*dns.SOA).Ns, "MNAME is the file's")
	require.EqualValues(t, 7200, r.Answer[0].(*dns.SOA).Refresh)
}

func TestAFileIsTakenOverByParts(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "ket-07." + zone, Site: "KET-07"})
	require.NoError(t, err)
	_, err = s.Client.AddZoneRecord(t.Context(), zone, contract.RecordInput{Name: "old." + zone, Type: "A", Data: "198.51.100.9"})
	require.NoError(t, err)
	const file = `
web    300 IN A     198.51.100.80
       300 IN AAAA  2001:db8::80
ket-07     IN A     198.51.100.1
_sip._tcp  IN SRV   0 5 5060 web
signed     IN RRSIG A 13 3 60 20300101000000 20200101000000 1 isles.saltmarsh.example. AAAA
`
	dry, err := s.Client.ImportZone(t.Context(), zone, strings.NewReader(file),
		contract.ZoneImportInput{Replace: true, ReplaceServers: true, DryRun: true})
	require.NoError(t, err)
	require.Len(t, dry.Added, 3)
	require.Equal(t, []names.Record{{Name: "old." + zone, Type: "A", TTL: 30, Data: "198.51.100.9"}}, dry.Removed)
	require.Len(t, dry.Left, 2)
	require.Contains(t, dry.Left[0].Reason, "follows the address of site KET-07")
	require.Contains(t, dry.Left[1].Reason, "type RRSIG are not served")
	_, _, rcode := answers(t, s.DNS, "web."+zone)
	require.Equal(t, dns.RcodeNameError, rcode, "a dry run changes nothing")
	_, err = s.Client.ImportZone(t.Context(), zone, strings.NewReader(file), contract.ZoneImportInput{Replace: true, ReplaceServers: true})
	require.NoError(t, err)
	require.Equal(t, []string{"198.51.100.80"}, ask(t, s.DNS, "web."+zone, dns.TypeA))
	_, _, rcode = answers(t, s.DNS, "old."+zone)
	require.Equal(t, dns.RcodeNameError, rcode)
}

func TestFaultyZoneFilesAreRefusedByLineAndColumn(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	before := exported(t, s, zone)
	for name, x := range map[string]struct{ file, why string }{
		"not an address":     {"good A 198.51.100.1\nbad A not-an-address\n", "line 2, column 7"},
		"unknown type":       {"a SMOKE x\n", "line 1, column 3"},
		"open bracket":       {"a TXT ( \"x\"\n", "line 1"},
		"label too long":     {strings.Repeat("x", 64) + " A 198.51.100.1\n", "line 1"},
		"include":            {"$INCLUDE /etc/passwd\n", "line 1"},
		"outside the zone":   {"elsewhere.example. A 198.51.100.1\n", "is not in zone"},
		"CNAME beside data":  {"a A 198.51.100.1\na CNAME b\n", "an alias stands alone"},
		"CNAMEs in a circle": {"a CNAME b\nb CNAME a\n", "in a circle"},
		"wildcard at apex":   {"* A 198.51.100.1\n", "put the wildcard below a hostname"},
		"TTL too long":       {"a A 198.51.100.1\nb 2147483648 A 198.51.100.1\n", "line 2, column 1: TTL 2147483648 is out of range"},
		"two SOA records":    {"@ SOA a b 1 2 3 4 5\n@ SOA a b 1 2 3 4 5\n", "line 2, column 1: a second SOA"},
		"SOA of another":     {"elsewhere.example. SOA a b 1 2 3 4 5\n", "line 1, column 1: the SOA record is for elsewhere.example."},
		"another class":      {"a CH TXT \"x\"\n", "only IN is served"},
		"an alias with data": {"\n; words\na A 198.51.100.1\n\n  \nb CNAME a\nb TXT \"x\"\n",
			"line 7, column 1: b.isles.saltmarsh.example has TXT records"},
		"no data":            {"a A 198.51.100.1\nb IN A\n", "line 2, column 1: the A record has no data"},
		"below a delegation": {"away NS ns.elsewhere.example.\nx.away TXT \"x\"\n", "delegated away"},
		"too many by macro": {"$GENERATE 1-60000 a$ A 198.51.100.1\n$GENERATE 1-60000 b$ A 198.51.100.1\n$GENERATE 1-60000 c$ A " +
			"198.51.100.1\n$GENERATE 1-60000 d$ A 198.51.100.1\n", "more than 200000 records"},
		"a server adrift": {"@ NS ns9\n", "stands inside zone isles.saltmarsh.example and has no address"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := s.Client.ImportZone(t.Context(), zone, strings.NewReader(x.file), contract.ZoneImportInput{ReplaceServers: true})
			refused(t, err, 422, "file", x.why)
		})
	}
	_, err := s.Client.ImportZone(t.Context(), "new.example", strings.NewReader("a A 198.51.100.1\n"), contract.ZoneImportInput{})
	refused(t, err, 422, "file", "no SOA record to make it from")
	_, err = s.Client.ImportZone(t.Context(), zone, strings.NewReader(strings.Repeat("; words\n", 3<<20)), contract.ZoneImportInput{})
	refused(t, err, 413, "", "larger than")
	require.Equal(t, before, exported(t, s, zone), "nothing was stored")
}
