package authdns

import (
	"bytes"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

func rrOf(t testing.TB, text string) dns.RR {
	t.Helper()
	rr, err := dns.NewRR(text)
	require.NoError(t, err)
	return rr
}

func TestACopyOfZonesAnswersAsTheZonesDid(t *testing.T) {
	const apex = "isles.saltmarsh.example"
	content := Names{}
	for name, texts := range map[string][]string{
		apex:              {apex + ". 60 IN NS ns1." + apex + "."},
		"ket-07." + apex:  {"ket-07." + apex + ". 30 IN A 198.51.100.7", "ket-07." + apex + ". 30 IN A 198.51.100.8"},
		"*.wild." + apex:  {"*.wild." + apex + ". 30 IN AAAA 2001:db8::7"},
		"text." + apex:    {"text." + apex + ". 30 IN TXT \"two\" \"parts\""},
		"museum." + apex:  {"museum." + apex + ". 30 IN CNAME ket-07." + apex + "."},
		"odd\\.x." + apex: {"odd\\.x." + apex + ". 30 IN A 198.51.100.9"},
	} {
		var list []dns.RR
		for _, text := range texts {
			list = append(list, rrOf(t, text))
		}
		set, err := NewRRset(list...)
		require.NoError(t, err)
		content[name] = append(content[name], set)
	}
	soa := rrOf(t, apex+". 30 IN SOA ns1."+apex+". post.saltmarsh.example. 4294967295 3600 300 1209600 30").(*dns.SOA)
	z, err := NewZone(soa, content)
	require.NoError(t, err)
	empty, err := NewZone(rrOf(t, "empty.example. 30 IN SOA a. b. 7 1 1 1 1").(*dns.SOA), Names{})
	require.NoError(t, err)

	var first, second bytes.Buffer
	require.NoError(t, WriteCopy(&first, []*Zone{z, empty}))
	text := bytes.Clone(first.Bytes())
	zones, err := ReadCopy(&first)
	require.NoError(t, err)
	require.Len(t, zones, 2)
	require.EqualValues(t, 4294967295, zones[0].Serial())
	require.Equal(t, z.Apex(), zones[0].Apex())
	require.Equal(t, empty.Serial(), zones[1].Serial())
	require.NoError(t, WriteCopy(&second, zones))
	require.Len(t, second.Bytes(), len(text))
	was, is := records(z), records(zones[0])
	require.ElementsMatch(t, was, is)
	require.GreaterOrEqual(t, len(was), 7)

	for n := 1; n < len(text); n += 7 { // cut anywhere
		if got, err := ReadCopy(bytes.NewReader(text[:n])); err == nil {
			require.LessOrEqual(t, len(got), 2)
		}
	}
	_, err = ReadCopy(bytes.NewReader([]byte{0xff, 0xff, 0xff, 0xff, 1}))
	require.ErrorContains(t, err, "longer than there can be")
}

// records lists what a zone has, as text.
func records(z *Zone) (out []string) {
	soa, all := z.snapshot()
	out = append(out, soa.String())
	for _, r := range all {
		rr, _, err := dns.UnpackRR([]byte(r.owner+r.rest), 0)
		if err == nil {
			out = append(out, rr.String())
		}
	}
	return out
}

func FuzzReadCopy(f *testing.F) {
	f.Add([]byte{0, 0, 0, 1, 0})
	f.Add([]byte("\x00\x00\x00\x20nonsense"))
	f.Fuzz(func(t *testing.T, text []byte) {
		zones, err := ReadCopy(bytes.NewReader(text))
		if err != nil {
			return
		}
		var out bytes.Buffer
		require.NoError(t, WriteCopy(&out, zones))
	})
}
