package agent

import (
	"math"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
)

func TestTheAgentLooksAtLANAddressesOnlyWhateverTheServerAsksFor(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	knocked := make(chan struct{}, 100)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			knocked <- struct{}{}
			_ = c.Close()
		}
	}()
	port := l.Addr().(*net.TCPAddr).AddrPort().Port()
	for _, text := range []string{"127.0.0.1", "::ffff:127.0.0.1", "0.0.0.0", "::1", "169.254.169.254", "fd00:ec2::254",
		"198.51.100.7", "8.8.8.8", "2600::1", "224.0.0.1", "255.255.255.255"} {
		seen := SystemLAN{}.Try(t.Context(), contract.WatchedPort{Transport: "tcp"}, netip.AddrPortFrom(netip.MustParseAddr(text), port))
		require.Equal(t, "unknown", seen.State, text)
		require.Contains(t, seen.Detail, "is not an address of a LAN", text)
	}
	seen := SystemLAN{}.Try(t.Context(), contract.WatchedPort{Transport: "sctp"}, netip.MustParseAddrPort("192.168.7.20:80"))
	require.Equal(t, "unknown", seen.State)
	require.Empty(t, knocked, "nobody was connected to")
	lab := SystemLAN{Lab: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	seen = lab.Try(t.Context(), contract.WatchedPort{Transport: "tcp"}, netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), port))
	require.Equal(t, "open", seen.State)
	require.Eventually(t, func() bool { return len(knocked) == 1 }, time.Second, time.Millisecond)
}

func TestAPortIsListenedOnForAMinuteAtMost(t *testing.T) {
	for seconds, want := range map[float64]time.Duration{
		10: 10 * time.Second, 0.5: 500 * time.Millisecond, 59: 59 * time.Second, 60: time.Minute, 1e9: time.Minute, -1: time.Minute,
		0: time.Minute, math.Inf(1): time.Minute, math.NaN(): time.Minute,
	} {
		require.Equal(t, want, proofTime(seconds), "%v", seconds)
	}
}

func TestWhatACommandIsToldIsAddressesAndPlainWords(t *testing.T) {
	four, six := netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8::7")
	for text, want := range map[string]wan.Pair{
		"198.51.100.7 2001:db8::7":         {IPv4: four, IPv6: six},
		"2001:db8::7":                      {IPv6: six},
		"":                                 {},
		"$(reboot) `id` ; rm -rf /":        {},
		"198.51.100.7; 2001:db8::7":        {IPv6: six},
		"fe80::1%eth0":                     {},
		"::ffff:198.51.100.7":              {IPv4: four},
		"198.51.100.7\nINKPOST_SITE=OTHER": {IPv4: four},
	} {
		require.Equal(t, want, pairIn(text), "%q", text)
	}
	for text, want := range map[string]string{"KET-07": "KET-07", "main": "main", "a b": "", "$(id)": "", "a\nb": "", "../x": "",
		string(make([]byte, 65)): "", "": ""} {
		require.Equal(t, want, plainWord(text), "%q", text)
	}
}
