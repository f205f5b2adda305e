package wan

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestClassOf(t *testing.T) {
	for text, want := range map[string]Class{
		"10.255.255.255": ClassPrivate, "172.15.255.255": ClassPublic, "172.16.0.0": ClassPrivate, "172.31.255.255": ClassPrivate,
		"172.32.0.0":  ClassPublic,
		"192.168.1.1": ClassPrivate, "100.63.255.255": ClassPublic, "100.64.0.0": ClassShared, "100.127.255.255": ClassShared,
		"100.128.0.0": ClassPublic,
		"127.0.0.1":   ClassLoopback, "169.254.1.1": ClassLinkLocal, "192.0.2.1": ClassDocumentation,
		"198.51.100.7": ClassDocumentation, "203.0.113.9": ClassDocumentation,
		"198.18.0.1": ClassReserved, "0.0.0.0": ClassUnspecified, "224.0.0.1": ClassMulticast, "255.255.255.255": ClassReserved,
		"192.0.0.8": ClassReserved,
		"::":        ClassUnspecified, "::1": ClassLoopback, "fe80::1%eth0": ClassLinkLocal, "fd00::1": ClassPrivate,
		"2001:db8::1": ClassDocumentation,
		"ff02::1":     ClassMulticast, "2a00::1": ClassPublic, "::ffff:10.0.0.1": ClassPrivate, "64:ff9b:1::1": ClassPrivate,
		"100::1": ClassReserved,
	} {
		require.Equal(t, want, ClassOf(netip.MustParseAddr(text)), text)
	}
	require.Equal(t, ClassInvalid, ClassOf(netip.Addr{}))
}

func TestPolicyCountsStandInsOnly(t *testing.T) {
	p := Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("127.96.0.0/11")}}
	require.NoError(t, p.Check(netip.MustParseAddr("127.101.0.9")))
	require.NoError(t, p.Check(netip.MustParseAddr("::ffff:127.101.0.9")))
	require.ErrorContains(t, p.Check(netip.MustParseAddr("127.0.0.1")), "loopback address")
	require.ErrorContains(t, Policy{}.Check(netip.MustParseAddr("127.101.0.9")), "loopback address")
	require.ErrorContains(t, Policy{}.Check(netip.MustParseAddr("192.168.0.2")), "another router is in front")
	require.ErrorContains(t, Policy{}.Check(netip.MustParseAddr("100.64.0.2")), "ask it for a public address")
	require.ErrorContains(t, Policy{}.Check(netip.Addr{}), "no address given")
}

func TestDecide(t *testing.T) {
	a, b, six := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("198.51.100.2"), netip.MustParseAddr("2001:db8::1")
	policy := Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8::/32")}}
	for name, c := range map[string]struct {
		now, offered, want Pair
		changed            bool
		wrong              string
	}{
		"first address":               {Pair{}, Pair{IPv4: a}, Pair{IPv4: a}, true, ""},
		"the same again":              {Pair{IPv4: a}, Pair{IPv4: a}, Pair{IPv4: a}, false, ""},
		"another":                     {Pair{IPv4: a}, Pair{IPv4: b}, Pair{IPv4: b}, true, ""},
		"the other family is kept":    {Pair{IPv4: a, IPv6: six}, Pair{IPv4: b}, Pair{IPv4: b, IPv6: six}, true, ""},
		"a second family is added":    {Pair{IPv4: a}, Pair{IPv6: six}, Pair{IPv4: a, IPv6: six}, true, ""},
		"nothing offered":             {Pair{IPv4: a}, Pair{}, Pair{}, false, "no address given"},
		"private":                     {Pair{IPv4: a}, Pair{IPv4: netip.MustParseAddr("10.0.0.1")}, Pair{}, false, "private"},
		"one good and one bad family": {Pair{IPv4: a}, Pair{IPv4: b, IPv6: netip.MustParseAddr("fe80::1")}, Pair{}, false, "link-local"},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := Decide(c.now, Announcement{Addresses: c.offered}, policy)
			if c.wrong != "" {
				require.ErrorContains(t, err, c.wrong)
				return
			}
			require.NoError(t, err)
			require.Equal(t, Decision{Changed: c.changed, Old: c.now, New: c.want}, d)
		})
	}
}

func TestPairText(t *testing.T) {
	require.Equal(t, "-", Pair{}.String())
	require.Equal(t, "198.51.100.1", PairOf(netip.MustParseAddr("::ffff:198.51.100.1")).String())
	require.Equal(t, "198.51.100.1 2001:db8::1", Pair{IPv4: netip.MustParseAddr("198.51.100.1"),
		IPv6: netip.MustParseAddr("2001:db8::1")}.String())
}

func TestRhythm(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	at := func(minutes ...int) (out []time.Time) {
		for _, m := range minutes {
			out = append(out, now.Add(time.Duration(m)*time.Minute))
		}
		return out
	}
	every, ok := Rhythm(at(0, 10, 20, 31, 40, 50))
	require.True(t, ok)
	require.Equal(t, 10*time.Minute, every)
	for name, irregular := range map[string][]time.Time{"too few": at(0, 10, 20, 30),
		"only when it changes": at(0, 10, 500, 510, 2000), "all at once": at(0, 0, 0, 0, 0)} {
		_, ok := Rhythm(irregular)
		require.False(t, ok, name)
	}
	require.False(t, OutOfRhythm(now.Add(-30*time.Minute), now.Add(-time.Hour), now, 10*time.Minute))
	require.True(t, OutOfRhythm(now.Add(-32*time.Minute), now.Add(-time.Hour), now, 10*time.Minute))
	require.False(t, OutOfRhythm(now.Add(-32*time.Minute), now.Add(-time.Minute), now, 10*time.Minute),
		"the server has just begun to listen")
	require.False(t, OutOfRhythm(now.Add(-1000*time.Hour), now.Add(-1000*time.Hour), now, 0))
}

func TestOverdue(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	long := ago(time.Hour)
	require.False(t, Overdue(ago(59*time.Second), long, now, 15*time.Second))
	require.True(t, Overdue(ago(61*time.Second), long, now, 15*time.Second))
	require.False(t, Overdue(ago(19*time.Second), long, now, time.Second), "never less than 20 s")
	require.False(t, Overdue(long, ago(10*time.Second), now, 15*time.Second), "silence before the server listened proves nothing")
}

func TestParseSource(t *testing.T) {
	s, err := ParseSource("observed")
	require.NoError(t, err)
	require.Equal(t, SourceObserved, s)
	_, err = ParseSource("guess")
	require.ErrorContains(t, err, `"guess" is unknown`)
}
