package probe

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// answers reads a series such as "1:te 203.0.113.1, 2:nothing, 3:open".
func answers(t *testing.T, text string) (out []HopAnswer) {
	t.Helper()
	messages := map[string][2]uint8{"te": {11, 0}, "host": {3, 1}, "net": {3, 0}, "no": {3, 13}, "port": {3, 3}, "te6": {3, 0}}
	for i, one := range strings.Split(text, ", ") {
		word, from, _ := strings.Cut(one, " ")
		a := HopAnswer{Limit: i + 1, Reply: HopNothing}
		switch m, ok := messages[word]; {
		case ok:
			a.Reply, a.ICMP = HopNotice, ICMP{Type: m[0], Code: m[1], From: netip.MustParseAddr(from)}
		case word == "open":
			a.Reply = HopAccepted
		case word == "rst":
			a.Reply = HopReset
		default:
			require.Equal(t, "-", word)
		}
		out = append(out, a)
	}
	return out
}

func TestHowFarPacketsGet(t *testing.T) {
	const way, site = "203.0.113.1", "198.51.100.7"
	target := netip.MustParseAddr(site)
	calibrated := func(text string) Calibration {
		c, ok := Calibrate(answers(t, text), target, time.Time{})
		require.True(t, ok, text)
		return c
	}
	router := calibrated("te " + way + ", te " + way + ", te " + site + ", open")
	require.Equal(t, Calibration{Router: 3, NATs: 1, Open: 4, Before: true}, router)
	modem := calibrated("te " + way + ", te " + way + ", te " + site + ", te " + site + ", open")
	require.Equal(t, 2, modem.NATs)
	mute := calibrated("-, -, -, open")
	require.Zero(t, mute.Router, "a router that never says that a limit ended there")
	_, ok := Calibrate(answers(t, "te "+way+", -"), target, time.Time{})
	require.False(t, ok, "a port that does not answer is none to compare with")
	require.Equal(t, []int{2, 3, 4, 5}, router.Limits(Longest))
	require.Equal(t, []int{1, 2, 3}, Calibration{}.Limits(3))

	lead := "te " + way + ", te " + way + ", "
	for name, c := range map[string]struct {
		c    Calibration
		seen string
		want Distance
	}{
		"works":                           {router, lead + "te " + site + ", open", AnsweredBehind},
		"no forward":                      {router, lead + "-, -", EndsAtFirst},
		"the device's firewall":           {router, lead + "te " + site + ", -", PassedOn},
		"the device is asleep":            {router, lead + "te " + site + ", host " + site, PassedOn},
		"the device is asleep, no TE":     {router, lead + "-, host " + site, PassedOn},
		"the service stopped":             {router, lead + "te " + site + ", rst", RefusedBehind},
		"the router refuses":              {router, lead + "rst, rst", RefusedByFirst},
		"the router prohibits":            {router, lead + "no " + site + ", no " + site, RefusedByFirst},
		"the router itself answers":       {router, lead + "open, open", AnsweredByFirst},
		"dropped on the way":              {router, "te " + way + ", -, -, -", EndsBefore},
		"prohibited on the way":           {router, "te " + way + ", no " + way + ", no " + way + ", no " + way, DistanceUnknown},
		"missing at the modem":            {modem, lead + "-, -, -", EndsAtFirst},
		"missing at the router behind it": {modem, lead + "te " + site + ", -, -", EndsAtInner},
		"both pass on":                    {modem, lead + "te " + site + ", te " + site + ", -", PassedOn},
		"refused by the one behind":       {modem, lead + "te " + site + ", rst, rst", RefusedByInner},
		"refused by the device":           {modem, lead + "te " + site + ", te " + site + ", rst", RefusedBehind},
		"a mute router, silence":          {mute, "te " + way + ", te " + way + ", -, -", DistanceUnknown},
		"a mute router, refused":          {mute, "te " + way + ", te " + way + ", -, rst", DistanceUnknown},
		"nothing to compare, passed on":   {Calibration{}, lead + "te " + site + ", -", PassedOn},
		"nothing to compare, silence":     {Calibration{}, lead + "-, -", DistanceUnknown},
		"nothing to compare, refused":     {Calibration{}, lead + "rst, rst", RefusedByFirst},
		"nothing to compare, far away":    {Calibration{}, lead + "-, rst", DistanceUnknown},
		"refused by ICMP, UDP":            {router, lead + "te " + site + ", port " + site, RefusedBehind},
	} {
		require.Equal(t, c.want, Read(answers(t, c.seen), target, c.c), name)
	}
	six := netip.MustParseAddr("2001:db8:7:1::30")
	c := Calibration{Router: 2, NATs: 1, Open: 3}
	require.Equal(t, PassedOn, Read(answers(t, "te6 2001:db8:99::1, te6 2001:db8:7::1, -"), six, c), "the router, by its own address")
	c, ok = Calibrate(answers(t, "te6 2001:db8:99::1, te6 2001:db8:ff::2, open"), six, time.Time{})
	require.True(t, ok)
	require.Equal(t, Calibration{Router: 2, NATs: 1, Open: 3, Before: true, Gateway: netip.MustParseAddr("2001:db8:ff::2")}, c)
	require.Equal(t, RefusedBehind, Read(answers(t, "te6 2001:db8:99::1, te6 2001:db8:ff::2, rst"), six, c))
	require.Equal(t, PassedOn, Read(answers(t, "te6 2001:db8:99::1, te6 2001:db8:ff::2, -"), six, c))
	require.Equal(t, RefusedByFirst, Read(answers(t, "te6 2001:db8:99::1, rst, rst"), six, c), "the router's firewall")
	require.Equal(t, DistanceUnknown, Read(answers(t, "te6 2001:db8:99::1, rst"), six, Calibration{}), "whoever that is")
}

// Longest is as many hops as the test looks at.
const Longest = 24

func TestWhatAnICMPMessageMeans(t *testing.T) {
	four, six := netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:7::1")
	for m, want := range map[ICMP]Notice{
		{}:           NoNotice,
		{3, 0, four}: NetUnreachable, {3, 1, four}: HostUnreachable, {3, 3, four}: PortUnreachable, {3, 9, four}: Prohibited,
		{3, 10, four}: Prohibited, {3, 13, four}: Prohibited, {11, 0, four}: TimeExceeded, {11, 1, four}: OtherNotice,
		{1, 0, six}: NetUnreachable, {1, 1, six}: Prohibited, {1, 3, six}: HostUnreachable, {1, 4, six}: PortUnreachable,
		{3, 0, six}: TimeExceeded, {2, 0, six}: OtherNotice,
	} {
		require.Equal(t, want, m.Notice(), "%v", m)
	}
	require.Equal(t, "host unreachable (ICMP 3/1) from 198.51.100.7", ICMP{3, 1, four}.String())
	require.Equal(t, "time exceeded (ICMPv6 3/0) from 2001:db8:7::1", ICMP{3, 0, six}.String())
	require.True(t, OfSite(four, four))
	require.False(t, OfSite(netip.MustParseAddr("198.51.100.8"), four))
	require.True(t, OfSite(six, netip.MustParseAddr("2001:db8:7:1::30")), "of the same site's prefix")
	require.False(t, OfSite(six, netip.MustParseAddr("2001:db8:8::30")))
	require.False(t, OfSite(netip.Addr{}, four))
}

func TestASeriesIsTold(t *testing.T) {
	s := Series{Answers: answers(t, "te 203.0.113.1, -, rst"), Distance: RefusedByFirst}
	require.Equal(t, []string{"hop limit 1: time exceeded (ICMP 11/0) from 203.0.113.1", "hop limit 2: nothing", "hop limit 3: reset",
		"so the site's router refuses it"}, s.Words())
	require.Equal(t, []string{"left out"}, Series{Problem: "left out"}.Words())
}
