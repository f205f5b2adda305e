package names

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestDifferencesGoSetBySet(t *testing.T) {
	r := func(name, rrtype, data string) Record {
		return Record{Name: Name(name), Type: rrtype, TTL: 30, Data: data}
	}
	now := []Record{r("a.example", "A", "198.51.100.1"), r("a.example", "TXT", `"two"`), r("a.example", "TXT", `"one"`),
		r("gone.example", "A", "198.51.100.2")}
	want := []Record{r("a.example", "TXT", `"one"`), r("a.example", "TXT", `"two"`), r("a.example", "A", "198.51.100.9"),
		r("new.example", "AAAA", "2001:db8::1")}
	require.Equal(t, []Difference{
		{Name: "a.example", Type: "A", Now: []string{"198.51.100.1"}, Want: []string{"198.51.100.9"}},
		{Name: "gone.example", Type: "A", Now: []string{"198.51.100.2"}},
		{Name: "new.example", Type: "AAAA", Want: []string{"2001:db8::1"}},
	}, Differences(now, want))
	require.Empty(t, Differences(want, want))
	other := []Record{want[1], want[0], want[3], want[2]}
	require.True(t, SameRecords(want, other), "order does not matter")
	other[0].TTL = 60
	require.False(t, SameRecords(want, other), "the TTL does")
	require.Empty(t, Differences(want, other), "but a server may cap it")
	require.Equal(t, []string{"A", "AAAA", "TXT"}, OwnedTypes(now, want))
}

func TestTTLsAheadOfAChange(t *testing.T) {
	planned := time.Date(2026, 11, 24, 2, 0, 0, 0, time.UTC)
	long := planned.AddDate(0, 0, -9)
	for name, x := range map[string]struct {
		ttl            int
		planned, since time.Time
		at             time.Duration // from planned
		want           int
	}{
		"nothing planned":     {600, time.Time{}, long, 0, 600},
		"well ahead":          {600, planned, long, -12 * time.Minute, 600},
		"one TTL ahead":       {600, planned, long, -11 * time.Minute, AheadTTL},
		"at the time":         {600, planned, long, 0, AheadTTL},
		"late":                {600, planned, long, 59 * time.Minute, AheadTTL},
		"it did not come":     {600, planned, long, time.Hour, 600},
		"it has come":         {600, planned, planned.Add(time.Minute), 2 * time.Minute, 600},
		"it came early":       {600, planned, planned.Add(-5 * time.Minute), 0, 600},
		"low in any case":     {AheadTTL, planned, long, 0, AheadTTL},
		"lower than the low":  {5, planned, long, 0, 5},
		"a day's TTL, a day":  {86400, planned, long, -24 * time.Hour, AheadTTL},
		"a day's TTL, before": {86400, planned, long, -25 * time.Hour, 86400},
	} {
		require.Equal(t, x.want, TTLAt(x.ttl, x.planned, x.since, planned.Add(x.at)), name)
	}
}

func TestTemplates(t *testing.T) {
	const apex = Name("isles.example")
	for template, wrong := range map[string]string{
		"": "", "{code}.isles.example": "", "{name}-{n}.west.isles.example": "",
		"site.isles.example": "same name for every site", "{code}.elsewhere.example": "not below isles.example", "{code}": "not below",
		"{code}_x.isles.example": "the character '_'", "{site}.isles.example": "same name for every site",
		"{code}{site}.isles.example": "the character '{'",
	} {
		err := CheckTemplate(template, apex)
		if wrong == "" {
			require.NoError(t, err, template)
		} else {
			require.ErrorContains(t, err, wrong, template)
		}
	}
	require.Equal(t, "ket-07.isles.example", Fill("{code}.isles.example", "KET-07", "x", 1))
	require.Equal(t, "bakery-at-the-slipway-2.isles.example", Fill("{name}-{n}.isles.example", "BAK-02", "  Bakery, at the Slipway! ", 2))
	require.Equal(t, "site.isles.example", Fill("{name}.isles.example", "X", "!!!", 1))
	first, _, _ := strings.Cut(Fill("{name}.isles.example", "X", strings.Repeat("long ", 40), 1), ".")
	require.LessOrEqual(t, len(first), MaxLabel)
}

func TestRemoteZonesAreChecked(t *testing.T) {
	good := Zone{Apex: "quay.example", Kind: Remote, Primary: netip.MustParseAddrPort("198.51.100.53:53")}.WithDefaults()
	require.NoError(t, good.Check())
	require.Equal(t, OverUDP, good.Transport)
	require.Equal(t, 86400, good.Reassert)
	for wrong, edit := range map[string]func(*Zone){
		"needs the address of its primary": func(z *Zone) { z.Primary = netip.AddrPort{} },
		"is unknown; it is udp or tcp":     func(z *Zone) { z.Transport = "smoke" },
		"every 59 seconds":                 func(z *Zone) { z.Reassert = MinReassert - 1 },
		"its primary has its servers":      func(z *Zone) { z.Servers = []Server{{Name: "ns.example"}} },
		"TTL 90000 is out of range":        func(z *Zone) { z.TTL = 90000 },
	} {
		z := good
		edit(&z)
		require.ErrorContains(t, z.Check(), wrong)
	}
	hosted := Zone{Apex: "a.example", Primary: good.Primary, Servers: []Server{{Name: "ns.elsewhere.example"}}}.WithDefaults()
	require.ErrorContains(t, hosted.Check(), "hosted here")
}

func TestAHeldNameIsHeldUntilItIsTaken(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	a := netip.MustParseAddr("198.51.100.7")
	require.Equal(t, StateHeld, HostnameEvidence{Want: a, Given: a, Published: now.Add(-time.Hour), TTL: time.Minute,
		Held: true}.Judge(now))
	require.Equal(t, StateIdle, HostnameEvidence{Held: true}.Judge(now), "no address is known: there is nothing to hold")
}

func TestHowNamesArePushedIsCheckedForEveryZone(t *testing.T) {
	hosted := Zone{Apex: "isles.saltmarsh.example", Servers: []Server{{Name: "ns1.elsewhere.example"}}}.WithDefaults()
	remote := Zone{Apex: "quay.saltmarsh.example", Kind: Remote, Primary: netip.MustParseAddrPort("198.51.100.53:53")}.WithDefaults()
	require.NoError(t, hosted.Check())
	require.NoError(t, remote.Check())
	for _, reassert := range []int{1, MinReassert - 1, MaxReassert + 1, 1 << 31, -1} {
		for _, z := range []Zone{hosted, remote} {
			z.Reassert = reassert
			require.ErrorContains(t, z.Check(), "cannot be pushed again", "%s %d", z.Kind, reassert)
		}
	}
	for _, z := range []Zone{hosted, remote} {
		z.Transport = "pigeon"
		require.ErrorContains(t, z.Check(), `transport "pigeon" is unknown`)
		z.Transport, z.Reassert = OverTCP, MinReassert
		require.NoError(t, z.Check(), "what is of no use is no harm")
	}
	hosted.Primary = remote.Primary
	require.ErrorContains(t, hosted.Check(), "has no other primary")
}
