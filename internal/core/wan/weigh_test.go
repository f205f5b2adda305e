package wan

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	weighNow = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	addrA    = netip.MustParseAddr("198.51.100.1")
	addrB    = netip.MustParseAddr("198.51.100.2")
	addrC    = netip.MustParseAddr("198.51.100.3")
	sixA     = netip.MustParseAddr("2001:db8::a")
	sixB     = netip.MustParseAddr("2001:db8::b")
	lab      = Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8::/32")}}
)

func says(s Source, addresses ...netip.Addr) Report {
	r := Report{Source: s, Via: "test", At: weighNow}
	for _, a := range addresses {
		r.Addresses = r.Addresses.With(a.Is6(), a)
	}
	return r
}

func aged(r Report, age time.Duration) Report { r.At = weighNow.Add(-age); return r }

func failed(s Source, problem string) Report {
	return Report{Source: s, At: weighNow, Problem: problem}
}

// The cases in which sources disagree: what is decided, who is named, and in which words.
func TestSourcesDisagree(t *testing.T) {
	private, private2, shared := netip.MustParseAddr("192.168.1.23"), netip.MustParseAddr("192.168.1.1"), netip.MustParseAddr("100.64.7.9")
	at := Pair{IPv4: addrA, IPv6: sixA}
	minutes := func(ago ...float64) (out []time.Time) {
		for _, m := range ago {
			out = append(out, weighNow.Add(-time.Duration(m*float64(time.Minute))))
		}
		return out
	}
	for name, c := range map[string]struct {
		w       Weighing
		want    Pair
		changed bool
		nat     Verdict
		named   []Source
		words   string // in the reason, in why it is held, or of who is named
	}{
		"all agree on another address": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrB), says(SourceGateway, addrB)}},
			Pair{addrB, sixA}, true, NATDirect, nil, "198.51.100.2 by observed, stun and gateway"},
		"nothing has changed": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceGateway, addrA)}}, at, false, NATDirect,
			nil, "by observed and gateway"},
		"IPv4 moves and IPv6 does not": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrB, sixA)}}, Pair{addrB, sixA},
			true, NATUnknown, nil, "198.51.100.2 by observed and stun"},
		"IPv6 moves and IPv4 does not": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceSTUN, addrA, sixB),
				says(SourceInterface, sixB)}}, Pair{addrA, sixB}, true, NATUnknown, nil, "2001:db8::b by stun and interface"},
		"a forged STUN answer against the server's own view": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceSTUN, addrC)}}, at, false, NATUnknown,
			[]Source{SourceSTUN}, "its answer is forged"},
		"a STUN answer of a private address": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceSTUN, private)}}, at, false, NATUnknown,
			[]Source{SourceSTUN}, "inside the provider's or the site's own network"},
		"STUN alone, against nothing": {
			Weighing{Current: at, Reports: []Report{failed(SourceObserved, "away"), says(SourceSTUN, addrB)}}, at, false, NATUnknown,
			[]Source{SourceSTUN}, "198.51.100.2 by stun alone: a second source has to agree"},
		"an interface's IPv6 address that STUN has seen too, where the server has no IPv6": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceSTUN, sixB),
				says(SourceInterface, sixB)}}, Pair{addrA, sixB}, true, NATUnknown, nil, "2001:db8::b by stun and interface"},
		"STUN and the gateway against what is observed": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrC), says(SourceSTUN, addrB),
				says(SourceGateway, addrB)}}, Pair{addrB, sixA}, true, NATDirect, []Source{SourceObserved}, "such as a tunnel or a proxy"},
		"three sources, three addresses": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrC),
				says(SourceGateway, addrA)}}, Pair{addrB, sixA}, true, NATUnknown, []Source{SourceSTUN, SourceGateway},
			"as the server sees it"},
		"two STUN servers against each other": {
			Weighing{Current: at, Reports: []Report{{Source: SourceSTUN, Via: "one", At: weighNow, Addresses: Pair{IPv4: addrB}},
				{Source: SourceSTUN, Via: "two", At: weighNow, Addresses: Pair{IPv4: addrC}}}},
			at, false, NATUnknown, []Source{SourceSTUN, SourceSTUN}, "the sources disagree, and 198.51.100.1 stays"},
		"a router that has not noticed": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrB),
				says(SourceGateway, addrA)}}, Pair{addrB, sixA}, true, NATUnknown, []Source{SourceGateway},
			"it has not noticed its new address"},
		"a router that lies of a public address": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceGateway, addrC)}}, at, false, NATUnknown,
			[]Source{SourceGateway}, "another device in front of it translates"},
		"a router that claims 0.0.0.0": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceGateway, netip.IPv4Unspecified())}}, at,
			false, NATUnknown, []Source{SourceGateway}, "the router has no connection"},
		"a router behind a modem": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceGateway, private)},
				Chain: []netip.Addr{private2, netip.MustParseAddr("192.168.8.1")}}, Pair{addrB, sixA}, true, NATDouble, nil,
			"another device in front of it translates"},
		"a provider that translates": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceGateway, shared)}}, Pair{addrB, sixA},
			true, NATCarrier, nil, "100.64.7.9 is an address that customers share"},
		"a provider that translates behind a modem that does too": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceGateway, private)},
				Chain: []netip.Addr{private2, shared}}, Pair{addrB, sixA}, true, NATCarrier, nil, "customers share"},
		"a typed WAN address where no protocol tells it": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), failed(SourceGateway, "nobody answers")},
				RouterWAN: private}, at, false, NATDouble, nil, "192.168.1.23"},
		"a modem in front that only the way out shows": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), failed(SourceGateway, "nobody answers")},
				Chain: []netip.Addr{netip.MustParseAddr("192.168.7.1"), private2, addrB}}, at, false, NATDouble, nil,
			"on the way out: 192.168.1.1"},
		"a stale report": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), aged(says(SourceGateway, addrB), time.Hour)}}, at,
			false, NATUnknown, []Source{SourceGateway}, "1h0m0s old"},
		"a report from the future": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), aged(says(SourceSTUN, addrB), -time.Hour)}}, at,
			false, NATUnknown, []Source{SourceSTUN}, "the clock at the site is wrong"},
		"an interface behind a tunnel": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrA), says(SourceInterface, addrC)}}, at, false,
			NATUnknown, []Source{SourceInterface}, "another interface or a tunnel"},
		"an interface with the public address itself": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceInterface, addrB)}}, Pair{addrB, sixA},
			true, NATDirect, nil, "by observed and interface"},
		"only inside sources are set": {
			Weighing{Current: at, Order: []Source{SourceInterface}, Reports: []Report{says(SourceInterface, addrB)}},
			Pair{addrB, sixA}, true, NATDirect, nil, "198.51.100.2 by interface"},
		"a source that is not set": {
			Weighing{Current: at, Order: []Source{SourceSTUN},
				Reports: []Report{says(SourceSTUN, addrA), says(SourceGateway, addrC)}}, at, false, NATUnknown, nil, "by stun"},
		"a fixed address that the provider has changed": {
			Weighing{Current: at, Order: []Source{SourceFixed, SourceObserved, SourceSTUN},
				Reports: []Report{says(SourceFixed, addrA), says(SourceObserved, addrB), says(SourceSTUN, addrB)}}, at, false, NATUnknown,
			[]Source{SourceObserved, SourceSTUN}, "198.51.100.1 is fixed"},
		"a fixed address that is last": {
			Weighing{Current: at, Reports: []Report{says(SourceFixed, addrA), says(SourceObserved, addrB), says(SourceSTUN, addrB)}},
			Pair{addrB, sixA}, true, NATUnknown, []Source{SourceFixed}, "the provider has changed it"},
		"a link that flaps, and all agree": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrB)},
				Moves: minutes(0.2, 0.5, 1, 2), Since: weighNow}, Pair{addrB, sixA}, true, NATUnknown, nil, "by observed and stun"},
		"a link that flaps, and nobody sees the connection": {
			Weighing{Current: at, Reports: []Report{says(SourceSTUN, addrB), says(SourceGateway, addrB)},
				Moves: minutes(0.2, 0.5, 1, 2), Since: weighNow}, at, false, NATUnknown, nil, "changed 4 times"},
		"a link that flaps between sources": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrB), says(SourceGateway, addrA)},
				Moves: minutes(0.2, 0.5, 1, 2), Since: weighNow.Add(-5 * time.Second)}, at, false, NATDirect,
			[]Source{SourceGateway}, "changed 4 times within 5 minutes"},
		"a link that flapped, and has been steady since": {
			Weighing{Current: at, Reports: []Report{says(SourceObserved, addrB), says(SourceSTUN, addrB)},
				Moves: minutes(1.5, 2, 2.5, 3), Since: weighNow.Add(-61 * time.Second)}, Pair{addrB, sixA}, true, NATUnknown, nil,
			"by observed and stun"},
		"nobody says anything": {
			Weighing{Current: at, Reports: []Report{failed(SourceObserved, "away"), failed(SourceSTUN, "no answer")}}, at, false,
			NATUnknown, nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			c.w.Now, c.w.Policy = weighNow, lab
			got := Weigh(c.w)
			require.Equal(t, c.want, got.Addresses, "%+v", got)
			require.Equal(t, c.changed, got.Changed)
			require.Equal(t, c.nat, got.NAT.Verdict, "%+v", got.NAT)
			words := got.Reason + got.Held + got.NAT.Words
			var named []Source
			for _, d := range got.Dissents {
				named = append(named, d.Source)
				words += d.Words
			}
			require.Equal(t, c.named, named, "%+v", got.Dissents)
			require.Contains(t, words, c.words)
		})
	}
}

func TestAFamilyThatIsGoneIsWithdrawn(t *testing.T) {
	at := Pair{addrA, sixA}
	four := []Report{says(SourceObserved, addrA), says(SourceSTUN, addrA)}
	for name, c := range map[string]struct {
		w    Weighing
		want Pair
	}{
		"two reports without it":   {Weighing{Current: at, Own: at, Reports: four, Lacks: [2]int{0, 2}}, at},
		"three reports without it": {Weighing{Current: at, Own: at, Reports: four, Lacks: [2]int{0, 3}}, Pair{IPv4: addrA}},
		"somebody else brought it": {Weighing{Current: at, Own: Pair{IPv4: addrA}, Reports: four, Lacks: [2]int{0, 9}}, at},
		"an older address was ours": {Weighing{Current: at, Own: Pair{addrA, netip.MustParseAddr("2001:db8::b")}, Reports: four,
			Lacks: [2]int{0, 9}}, at},
		"it is the only one": {Weighing{Current: Pair{IPv6: sixA}, Own: at, Lacks: [2]int{0, 9}}, Pair{IPv6: sixA}},
		"it is there again": {Weighing{Current: at, Own: at, Reports: append(four, says(SourceSTUN, sixA)),
			Lacks: [2]int{0, 9}}, at},
		"IPv4 is gone, and IPv6 is there": {Weighing{Current: at, Own: at,
			Reports: []Report{says(SourceObserved, sixA), says(SourceSTUN, sixA)}, Lacks: [2]int{3, 0}}, Pair{IPv6: sixA}},
	} {
		c.w.Now, c.w.Policy = weighNow, lab
		got := Weigh(c.w)
		require.Equal(t, c.want, got.Addresses, name)
		require.Equal(t, c.want != c.w.Current, got.Withdrawn.Known(), name)
	}
	w := Weighing{Now: weighNow, Policy: lab, Reports: four}
	require.True(t, w.Lacking(true))
	require.False(t, w.Lacking(false))
	w.Reports = []Report{failed(SourceObserved, "away")}
	require.False(t, w.Lacking(true) || w.Lacking(false), "a report that has nothing says nothing")
}

func TestEachVerdictSaysWhatToDo(t *testing.T) {
	carrier := JudgeNAT(netip.MustParseAddr("100.64.1.2"), addrA, nil, lab)
	require.Equal(t, NATCarrier, carrier.Verdict)
	require.Contains(t, carrier.Remedies[0], "public IPv4 address")
	double := JudgeNAT(netip.MustParseAddr("192.168.1.23"), addrA,
		[]netip.Addr{netip.MustParseAddr("192.168.8.1"), netip.MustParseAddr("192.168.1.1"), addrB, netip.MustParseAddr("10.0.0.1")}, lab)
	require.Equal(t, NATDouble, double.Verdict)
	require.Len(t, double.Remedies, 3)
	require.Len(t, double.Chain, 2, "a private hop beyond a public one is not at the site")
	require.Contains(t, double.Words, "192.168.1.1")
	unknown := JudgeNAT(netip.Addr{}, addrA, nil, lab)
	require.Contains(t, unknown.Remedies[0], "--router-address")
	require.Empty(t, JudgeNAT(addrA, addrA, nil, lab).Remedies)
}
