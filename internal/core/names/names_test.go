package names

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	label63 := strings.Repeat("a", 63)
	longest := strings.Join([]string{label63, label63, label63, strings.Repeat("b", 61)}, ".")
	for in, want := range map[string]string{
		"ket-07.isles.saltmarsh.example":  "ket-07.isles.saltmarsh.example",
		"KET-07.Isles.Saltmarsh.Example.": "ket-07.isles.saltmarsh.example",
		"7.example":                       "7.example", label63 + ".example": label63 + ".example", longest: longest,
	} {
		got, err := Parse(in)
		require.NoError(t, err, in)
		require.Equal(t, Name(want), got)
	}
	for in, wrong := range map[string]string{
		"": "is empty", ".": "is empty", "a..example": "empty label", ".example": "empty label",
		"-a.example": "begins or ends with a hyphen", "a-.example": "begins or ends with a hyphen",
		"a_b.example": `the character '_'`, "a b.example": `the character ' '`, "käse.example": `the character 'ä'`,
		label63 + "a.example": "has 64 characters", longest + "c": "has 254 characters",
		"*.example": `the character '*'`,
	} {
		_, err := Parse(in)
		require.ErrorContains(t, err, wrong, in)
	}
}

func TestWithinAndZoneFor(t *testing.T) {
	require.True(t, Name("a.b.example").Within("b.example"))
	require.True(t, Name("b.example").Within("b.example"))
	require.False(t, Name("ab.example").Within("b.example"))
	apexes := []Name{"example", "isles.example", "other.example"}
	z, ok := ZoneFor("x.isles.example", apexes)
	require.True(t, ok)
	require.Equal(t, Name("isles.example"), z)
	z, _ = ZoneFor("isles.example", apexes)
	require.Equal(t, Name("example"), z, "an apex itself is a name in the zone above")
	_, ok = ZoneFor("x.test", apexes)
	require.False(t, ok)
}

func TestSerial(t *testing.T) {
	require.Equal(t, uint32(2), NextSerial(1))
	require.Equal(t, uint32(1), NextSerial(4294967295))
	require.True(t, SerialAfter(1, 4294967295), "across the wrap")
	require.False(t, SerialAfter(4294967295, 1))
	require.False(t, SerialAfter(7, 7))
	require.False(t, SerialAfter(0, 1<<31), "undefined")
}

func TestZoneCheck(t *testing.T) {
	z := Zone{Apex: "isles.example"}.WithDefaults()
	require.Equal(t, uint32(30), z.TTL)
	require.Equal(t, Name("hostmaster.isles.example"), z.Contact)
	require.ErrorContains(t, z.Check(), "no name server")
	z.Servers = []Server{{Name: "ns1.isles.example"}}
	require.ErrorContains(t, z.Check(), "has no address")
	z.Servers[0].Addresses = []netip.Addr{netip.MustParseAddr("198.51.100.1")}
	require.NoError(t, z.Check())
	z.Servers = []Server{{Name: "ns1.elsewhere.example"}}
	require.NoError(t, z.Check(), "a server outside needs no address here")
	z.TTL = 90000
	require.ErrorContains(t, z.Check(), "TTL 90000 is out of range")
}

func TestJudge(t *testing.T) {
	a, b := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("198.51.100.2")
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		s    HostnameEvidence
		want State
	}{
		"no address": {HostnameEvidence{}, StateIdle},
		"just published": {HostnameEvidence{Want: a, Given: a, Published: now.Add(-29 * time.Second), TTL: 30 * time.Second},
			StateSettling},
		"caches ran out": {HostnameEvidence{Want: a, Given: a, Published: now.Add(-30 * time.Second), TTL: 30 * time.Second},
			StatePointed},
		"not asked yet":   {HostnameEvidence{Want: a, Published: now.Add(-time.Hour), TTL: 30 * time.Second}, StateSettling},
		"another address": {HostnameEvidence{Want: a, Given: b, Published: now.Add(-time.Hour), TTL: 30 * time.Second}, StateStale},
	} {
		require.Equal(t, c.want, c.s.Judge(now), name)
	}
}
