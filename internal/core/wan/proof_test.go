package wan

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

func at(text string) netip.Addr {
	if text == "" {
		return netip.Addr{}
	}
	return netip.MustParseAddr(text)
}

func TestAnAddressNeedsMoreThanAWord(t *testing.T) {
	p := Proof{Own: []netip.Addr{at("198.51.100.7"), at("2001:db8:7::1")},
		Allowed: []netip.Prefix{netip.MustParsePrefix("203.0.113.0/28"), netip.MustParsePrefix("2001:db8:9::/48")}}
	for text, proven := range map[string]bool{
		"198.51.100.7": true, "::ffff:198.51.100.7": true, "198.51.100.8": false, "203.0.113.15": true, "203.0.113.16": false,
		"2001:db8:7::1": true, "2001:db8:7::2": false, "2001:db8:9:ffff::1": true, "2001:db8:a::1": false,
	} {
		err := p.Check(at(text))
		require.Equal(t, proven, err == nil, text)
		if !proven {
			require.ErrorContains(t, err, text+" is not the address that this comes from (198.51.100.7 and 2001:db8:7::1)")
		}
	}
	require.ErrorContains(t, Proof{}.Check(at("198.51.100.7")), "an address that is not known")
}

func TestOnlyWhatIsProvenMoves(t *testing.T) {
	p := Proof{Own: []netip.Addr{at("198.51.100.7")}}
	pair := func(four, six string) Pair { return Pair{IPv4: at(four), IPv6: at(six)} }
	for what, x := range map[string]struct {
		from, to, want Pair
		refused        string
	}{
		"proven":   {pair("198.51.100.1", ""), pair("198.51.100.7", ""), pair("198.51.100.7", ""), ""},
		"unproven": {pair("198.51.100.1", ""), pair("203.0.113.9", ""), pair("198.51.100.1", ""), "203.0.113.9"},
		"one family of two": {pair("198.51.100.1", "2001:db8::1"), pair("198.51.100.7", "2001:db8::2"),
			pair("198.51.100.7", "2001:db8::1"), "2001:db8::2"},
		"as it was needs no proof": {pair("203.0.113.9", "2001:db8::1"), pair("203.0.113.9", "2001:db8::1"),
			pair("203.0.113.9", "2001:db8::1"), ""},
		"to be without one needs none": {pair("198.51.100.1", "2001:db8::1"), pair("198.51.100.7", ""), pair("198.51.100.7", ""), ""},
	} {
		t.Run(what, func(t *testing.T) {
			got, err := p.Proven(x.from, x.to)
			require.Equal(t, x.want, got)
			if x.refused == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, x.refused)
			}
		})
	}
}

func TestWhatALANHas(t *testing.T) {
	for text, want := range map[string]bool{
		"192.168.7.20": true, "10.255.0.1": true, "172.16.0.1": true, "172.32.0.1": false, "169.254.7.7": true,
		"169.254.169.254": false, "fe80::1": true, "fd00::1": true,
		"fd00:ec2::254": false, "127.0.0.1": false, "::1": false, "0.0.0.0": false, "8.8.8.8": false, "100.64.0.1": false,
		"224.0.0.251": false, "::ffff:192.168.7.20": true,
		"::ffff:127.0.0.1": false, "2600::1": false, "255.255.255.255": false,
	} {
		require.Equal(t, want, OnLAN(at(text)), text)
	}
	lab := Policy{LANs: []netip.Prefix{netip.MustParsePrefix("127.192.0.0/10")}}
	require.True(t, lab.OnLAN(at("127.200.1.1")))
	require.False(t, lab.OnLAN(at("127.0.0.1")))
	require.False(t, OnLAN(netip.Addr{}))
}

// One source of an agent lies, in any way; the others, however few of them speak, and what the server sees tell the truth.
func TestOneLiarMovesNothing(t *testing.T) {
	others := []Source{SourceSTUN, SourceGateway, SourceInterface, SourceFixed}
	for _, liar := range others {
		for honest := range 1 << len(others) {
			for _, lie := range []Report{says(liar, addrC), says(liar, addrC, sixB), says(liar, sixB), aged(says(liar, addrC), -1)} {
				for _, true4 := range []Report{says(SourceObserved, addrA), says(SourceObserved, addrB)} { // at home, and moved
					w := Weighing{Now: weighNow, Current: Pair{IPv4: addrA, IPv6: sixA}, Policy: lab, Reports: []Report{true4, lie}}
					for i, s := range others {
						if honest&(1<<i) != 0 && s != liar {
							w.Reports = append(w.Reports, says(s, true4.Addresses.IPv4))
						}
					}
					j := Weigh(w)
					proven, _ := Proof{Own: []netip.Addr{true4.Addresses.IPv4}}.Proven(w.Current, j.Addresses)
					require.NotEqual(t, addrC, proven.IPv4, "%s lies, %04b tell the truth", liar, honest)
					require.NotEqual(t, sixB, proven.IPv6, "%s lies, %04b tell the truth", liar, honest)
					require.Contains(t, []netip.Addr{addrA, true4.Addresses.IPv4}, proven.IPv4)
				}
			}
		}
	}
}

// Whatever all sources of a stolen agent's key agree on, only proven addresses move.
func TestAllSourcesOfAStolenKeyTogetherMoveNothing(t *testing.T) {
	w := Weighing{Now: weighNow, Current: Pair{IPv4: addrA}, Policy: lab, Reports: []Report{says(SourceObserved, addrB)}}
	for _, s := range []Source{SourceSTUN, SourceGateway, SourceInterface, SourceFixed} {
		w.Reports = append(w.Reports, says(s, addrC))
	}
	j := Weigh(w)
	proven, _ := Proof{Own: []netip.Addr{addrB}}.Proven(w.Current, j.Addresses)
	require.NotEqual(t, addrC, proven.IPv4)
}
