package names

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestParseOwner(t *testing.T) {
	for _, good := range []string{"_sip._tcp.isles.example", "*.ket-07.isles.example", "_acme-challenge.ket-07.isles.example",
		"isles.example"} {
		got, err := ParseOwner(strings.ToUpper(good) + ".")
		require.NoError(t, err)
		require.Equal(t, Name(good), got)
	}
	for in, wrong := range map[string]string{"a.*.example": "'*'", "**.example": "'*'", "_.example": "an underscore alone",
		"a_b.example": "'_'", "*": "'*'",
		"_" + strings.Repeat("a", 63) + ".example": "64 characters"} {
		_, err := ParseOwner(in)
		require.ErrorContains(t, err, wrong, in)
	}
}

func TestCheckContent(t *testing.T) {
	r := func(lines ...string) (out []Record) {
		for _, l := range lines {
			w := strings.SplitN(l, " ", 3)
			out = append(out, Record{Name: Name(w[0]), Type: w[1], TTL: 30, Data: w[2]})
		}
		return out
	}
	require.NoError(t, CheckContent("z.example", r("a.z.example A 198.51.100.1", "a.z.example MX 10 a.z.example.",
		"b.z.example CNAME a.z.example.", "c.z.example CNAME b.z.example.", "*.a.z.example A 198.51.100.1")))
	for name, c := range map[string]struct {
		records []Record
		wrong   string
	}{
		"outside":       {r("a.y.example A 198.51.100.1"), "is not in zone"},
		"apex alias":    {r("z.example CNAME a.z.example."), "cannot be an alias"},
		"apex wildcard": {r("*.z.example A 198.51.100.1"), "put the wildcard below a hostname"},
		"alias beside":  {r("a.z.example CNAME b.z.example.", "a.z.example TXT \"x\""), "a.z.example has TXT records"},
		"two aliases":   {r("a.z.example CNAME b.z.example.", "a.z.example CNAME c.z.example."), "is an alias already"},
		"itself":        {r("a.z.example CNAME A.Z.example."), "a.z.example → a.z.example"},
		"circle of three": {r("a.z.example CNAME b.z.example.", "b.z.example CNAME c.z.example.", "c.z.example CNAME a.z.example."),
			"lead in a circle"},
		"twice": {r("a.z.example A 198.51.100.1", "a.z.example A 198.51.100.1"), "on record already"},
	} {
		require.ErrorContains(t, CheckContent("z.example", c.records), c.wrong, name)
	}
}
