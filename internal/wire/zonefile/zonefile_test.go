package zonefile

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
)

const apex = names.Name("isles.saltmarsh.example")

func TestAFileIsReadAsTheStandardHasIt(t *testing.T) {
	f, err := Read(strings.NewReader(`
$TTL 2h
@       IN SOA ns1 post.saltmarsh.example. ( 42 ; the serial
                1h 5m 2w 30 )
        NS    ns1
ns1     A     198.51.100.1
KET-07  60 IN A 198.51.100.7 ; a site
        AAAA  2001:db8:7::1
*.wild  TXT   "two" "parts; with a semicolon"
$ORIGIN elsewhere.isles.saltmarsh.example.
sip     SRV   0 5 5060 KET-07.Isles.saltmarsh.example.
        TYPE65280 \# 3 abcdef
`), apex)
	require.NoError(t, err)
	require.EqualValues(t, 42, f.SOA.Serial)
	require.EqualValues(t, 300, f.SOA.Retry)
	var lines []string
	for _, r := range f.Records {
		lines = append(lines, fmt.Sprintf("%s %d %s %s", r.Name, r.TTL, r.Type, r.Data))
	}
	require.Equal(t, []string{
		"isles.saltmarsh.example 7200 NS ns1.isles.saltmarsh.example.",
		"ns1.isles.saltmarsh.example 7200 A 198.51.100.1",
		"ket-07.isles.saltmarsh.example 60 A 198.51.100.7",
		"ket-07.isles.saltmarsh.example 60 AAAA 2001:db8:7::1", // RFC 1035: what is left out is as before
		`*.wild.isles.saltmarsh.example 60 TXT "two" "parts; with a semicolon"`,
		"sip.elsewhere.isles.saltmarsh.example 60 SRV 0 5 5060 ket-07.isles.saltmarsh.example.",
		`sip.elsewhere.isles.saltmarsh.example 60 TYPE65280 \# 3 abcdef`,
	}, ttlAsTyped(lines))
}

// ttlAsTyped lets the TTL of lines without one be either of the two that RFC 1035 (the last) and RFC 2308 ($TTL) name.
func ttlAsTyped(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		if i >= 3 {
			l = strings.Replace(l, " 7200 ", " 60 ", 1)
		}
		out[i] = l
	}
	return out
}

func TestWhatIsWrittenIsReadBackTheSame(t *testing.T) {
	in := []names.Record{
		{Name: apex, Type: "NS", Data: "ns1." + string(apex) + ".", TTL: 60},
		{Name: "a." + apex, Type: "A", Data: "198.51.100.7", TTL: 30},
		{Name: "a." + apex, Type: "TXT", Data: `"quoted \"text\"" "and \255"`, TTL: 300},
		{Name: "b." + apex, Type: "MX", Data: "10 mail.example.", TTL: 3600},
		{Name: "c." + apex, Type: "CAA", Data: `0 issue "ca.example"`, TTL: 60},
		{Name: "d." + apex, Type: "SSHFP", Data: "4 2 " + strings.Repeat("ab", 32), TTL: 60},
	}
	var first, second bytes.Buffer
	backwards := append([]names.Record(nil), in...)
	for i, j := 0, len(backwards)-1; i < j; i, j = i+1, j-1 {
		backwards[i], backwards[j] = backwards[j], backwards[i]
	}
	require.NoError(t, Write(&first, apex, nil, in))
	require.NoError(t, Write(&second, apex, nil, backwards))
	require.Equal(t, first.String(), second.String(), "the same content has the same text")
	require.True(t, strings.HasPrefix(first.String(), "$ORIGIN isles.saltmarsh.example.\nisles.saltmarsh.example.\t"))
	f, err := Read(&first, apex)
	require.NoError(t, err)
	require.Len(t, f.Records, len(in))
	for i := range in {
		require.Equal(t, in[i].Type, f.Records[i].Type)
		require.Equal(t, strings.ToLower(in[i].Data), strings.ToLower(f.Records[i].Data))
	}
}

func TestAFaultSaysWhereItIs(t *testing.T) {
	for text, want := range map[string]struct {
		line, column int
		detail       string
	}{
		"a A 198.51.100.1\nb A 198.51.100.300\n": {2, 5, "bad A A"},
		"a A\n":                                  {1, 0, "the A record has no data"},
		"@ SOA ns1 post 1 2 3 4 5\n@ SOA ns1 post 2 2 3 4 5\n":  {2, 0, "a second SOA record"},
		"elsewhere.example. SOA ns1 post 1 2 3 4 5\n":           {1, 0, "the SOA record is for elsewhere.example."},
		"a A 198.51.100.1\nx CH TXT \"version\"\n":              {2, 0, "class CH; only IN is served"},
		"a TXT \"never closed\n":                                {1, 0, ""},
		"$INCLUDE /etc/passwd\n":                                {1, 0, "$INCLUDE"},
		"a MX mail.example.\n":                                  {1, 0, "MX"},
		strings.Repeat("x", 64) + " A 198.51.100.1\n":           {1, 0, ""},
		"a NONSENSE 1\n":                                        {1, 0, ""},
		"a 99999999999999 A 198.51.100.1\n":                     {1, 0, ""},
		"a A 198.51.100.1\n\n; a remark\nb AAAA 198.51.100.1\n": {4, 0, "AAAA"},
		"(((\n": {1, 0, ""},
	} {
		t.Run(text[:min(len(text), 24)], func(t *testing.T) {
			f, err := Read(strings.NewReader(text), apex)
			var fault Fault
			require.ErrorAs(t, err, &fault, "%+v", f)
			require.Equal(t, want.line, fault.Line, fault.Error())
			if want.column > 0 {
				require.Equal(t, want.column, fault.Column, fault.Error())
				require.Contains(t, fault.Error(), fmt.Sprintf("line %d, column %d", want.line, want.column))
			}
			require.Contains(t, fault.Detail, want.detail)
			require.Empty(t, f.Records, "nothing of a file with a fault is taken over")
		})
	}
}

func TestAFileIsBounded(t *testing.T) {
	many := strings.Repeat("$GENERATE 1-60000 a$ A 198.51.100.1\n$ORIGIN x\n", Most/60000+1)
	_, err := Read(strings.NewReader(many), apex)
	require.ErrorContains(t, err, "more than 200000 records")
	_, err = Read(failing{}, apex)
	require.ErrorIs(t, err, errCut)
	require.ErrorIs(t, Write(failing{}, apex, nil, nil), errCut)
}

func TestWhatAFileMeansIsReadAsItStands(t *testing.T) {
	text := "$TTL 7200\n; a comment\n$GENERATE 1-2 g$ A 198.51.100.$\nzero 0 A 198.51.100.9\nlong 2147483647 A 198.51.100.9\n" +
		"twice A 198.51.100.1\ntwice A 198.51.100.1\nempty TXT \"\"\nbücher A 198.51.100.3\n\n\nfar (\n  60 A\n 198.51.100.4 )\n" +
		"loc LOC 52 22 23.000 N 4 53 32.000 E -2.00m 0.00m 10000m 10m\nhost HINFO \"x86\" \"linux\"\nwho RP hostmaster .\nlink URI " +
		"10 1 \"https://isles.example/\"\n" +
		"below DNAME elsewhere.example.\nraw TYPE65400 \\# 2 beef\nmail MX 10 bücher\n"
	f, err := Read(strings.NewReader(text), apex)
	require.NoError(t, err)
	var lines []string
	for i, r := range f.Records {
		lines = append(lines, fmt.Sprintf("%d %s %d %s %s", f.Places[i].Line, strings.TrimSuffix(string(r.Name), "."+string(apex)),
			r.TTL, r.Type, r.Data))
	}
	require.Equal(t, []string{"3 g1 7200 A 198.51.100.1", "3 g2 7200 A 198.51.100.2", "4 zero 0 A 198.51.100.9",
		"5 long 2147483647 A 198.51.100.9",
		"6 twice 7200 A 198.51.100.1", `8 empty 7200 TXT ""`, "9 xn--bcher-kva 7200 A 198.51.100.3", "12 far 60 A 198.51.100.4",
		"15 loc 7200 LOC 52 22 23.000 N 04 53 32.000 E -2m 0.00m 10000m 10m", `16 host 7200 HINFO "x86" "linux"`,
		"17 who 7200 RP hostmaster." + string(apex) + ". .",
		`18 link 7200 URI 10 1 "https://isles.example/"`, "19 below 7200 DNAME elsewhere.example.", `20 raw 7200 TYPE65400 \# 2 beef`,
		"21 mail 7200 MX 10 xn--bcher-kva." + string(apex) + "."}, lines)

	for text, want := range map[string]string{"a IN A\n": "line 1, column 1: the A record has no data; it looks like this: " +
		"198.51.100.7", "\n\n  ; x\nb MX\n": "line 4, column 1: the MX record has no data",
		"a SSHFP 4 2 abc\n":         "line 1, column 1: \"4 2 ABC\" is not data of a SSHFP record",
		"a A 198.51.100.1\nc TXT\n": "line 2, column 1: the TXT record has no data"} {
		_, err := Read(strings.NewReader(text), apex)
		require.ErrorContains(t, err, want, text)
	}
}

func TestDataThatIsTypedIsBelowItsZone(t *testing.T) {
	rr, err := Below(names.Record{Name: "a." + apex, TTL: 60, Type: "MX", Data: "10 mail"}, string(apex)+".")
	require.NoError(t, err)
	require.Equal(t, "10 mail."+string(apex)+".", Data(rr))
	for data, want := range map[string]string{"": "a MX record needs data; it looks like this: 10 mail.isles.example.",
		"x": `"x" is not data of a MX record; it looks like this`} {
		_, err = Below(names.Record{Name: "a." + apex, TTL: 60, Type: "MX", Data: data}, string(apex)+".")
		require.ErrorContains(t, err, want)
	}
}

var errCut = errors.New("cut off")

type failing struct{}

func (failing) Read([]byte) (int, error)  { return 0, errCut }
func (failing) Write([]byte) (int, error) { return 0, errCut }

func TestTypesAndData(t *testing.T) {
	for word, want := range map[string]uint16{"A": 1, "AAAA": 28, "HTTPS": 65, "TYPE65280": 65280} {
		got, err := Type(word)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	_, err := Type("NONSENSE")
	require.ErrorContains(t, err, `record type "NONSENSE" is unknown`)
	for _, bad := range []names.Record{{Name: "a." + apex, Type: "A", Data: "here"}, {Name: "a." + apex, Type: "MX", Data: "mail"},
		{Name: "a." + apex, Type: "A", Data: "198.51.100.1 198.51.100.2"}} {
		_, err := RR(bad)
		require.ErrorContains(t, err, "is not data of a "+bad.Type+" record", bad.Data)
	}
	rr, err := RR(names.Record{Name: "A." + apex, Type: "CNAME", Data: "KET-07.Example.", TTL: 7})
	require.NoError(t, err)
	require.Equal(t, names.Record{Name: "a." + apex, Type: "CNAME", Data: "ket-07.example.", TTL: 7}, Record(rr))
}

func FuzzRead(f *testing.F) {
	f.Add("a A 198.51.100.1\n")
	f.Add("@ SOA ns1 post 1 2 3 4 5\n$TTL 1\n")
	f.Add("\x00\xff(\"")
	f.Fuzz(func(t *testing.T, text string) {
		file, err := Read(strings.NewReader(text), apex)
		if err != nil {
			var fault Fault
			require.ErrorAs(t, err, &fault)
			require.Positive(t, fault.Line)
			return
		}
		var out bytes.Buffer
		require.NoError(t, Write(&out, apex, file.SOA, file.Records))
	})
}

// Addresses are read without the parser of zone files: to the same octets, and nothing is an address that is none for that.
func TestAnAddressIsReadAsTheParserReadsIt(t *testing.T) {
	for _, kind := range []string{"A", "AAAA", "TXT"} {
		for _, data := range []string{"198.51.100.7", "198.51.100.007", "198.51.100", "2001:db8::7", "2001:DB8:0:0::7",
			"::ffff:198.51.100.7", "2001:db8::7%eth0", " 198.51.100.7 ", "host", ""} {
			for _, name := range []names.Name{"ket-07.saltmarsh.example", "*.saltmarsh.example", "_sip._udp.saltmarsh.example"} {
				r := names.Record{Name: name, Type: kind, TTL: 300, Data: data}
				got, err := RR(r)
				want, wrong := Below(r, ".")
				require.Equal(t, wrong, err, "%+v", r)
				if wrong == nil {
					octets := func(rr dns.RR) []byte {
						out := make([]byte, 512)
						n, err := dns.PackRR(rr, out, 0, nil, false)
						require.NoError(t, err)
						return out[:n]
					}
					require.Equal(t, octets(want), octets(got), "%+v", r)
				}
			}
		}
	}
}
