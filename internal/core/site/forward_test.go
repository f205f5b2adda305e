package site

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

func value(t *testing.T, c Card, label string) string {
	t.Helper()
	for _, f := range c.Fields {
		if f.Label == label {
			return f.Value
		}
	}
	t.Fatalf("no field %q on the card %q", label, c.Title)
	return ""
}

func TestCardsSayWhatToTypeIntoWhichBox(t *testing.T) {
	recorder := Device{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: netip.MustParseAddr("192.168.7.20"), Reserved: true}
	page := Service{Name: "page", Kind: probe.KindHTTPS, Transport: probe.TCP, ExternalFrom: 8443, ExternalTo: 8443, InternalFrom: 443}
	four := Link{Label: "main", IPv4: netip.MustParseAddr("198.51.100.7")}

	cards := Cards(page, recorder, four, wan.NAT{Verdict: wan.NATDirect})
	require.Len(t, cards, 1)
	require.Equal(t, "the router", cards[0].Where)
	require.Equal(t, "8443", value(t, cards[0], "External port"))
	require.Equal(t, "192.168.7.20", value(t, cards[0], "Internal address"))
	require.Equal(t, "443", value(t, cards[0], "Internal port"))
	require.Equal(t, "any address", value(t, cards[0], "From"))
	require.Empty(t, cards[0].Note)

	wandering := recorder
	wandering.Reserved = false
	require.Contains(t, Cards(page, wandering, four, wan.NAT{})[0].Note, "Reserve 192.168.7.20 for recorder (02:00:5e:07:00:01) first")
	wandering.MAC = ""
	require.Contains(t, Cards(page, wandering, four, wan.NAT{})[0].Note, "(its MAC address)")

	double := Cards(page, recorder, four, wan.NAT{Verdict: wan.NATDouble, RouterWAN: netip.MustParseAddr("192.168.0.2")})
	require.Len(t, double, 2)
	require.Equal(t, "192.168.0.2", value(t, double[0], "Internal address"), "the first leads to our own router")
	require.Equal(t, "8443", value(t, double[0], "Internal port"), "and keeps the port")
	require.Equal(t, "192.168.7.20", value(t, double[1], "Internal address"))
	require.Equal(t, "443", value(t, double[1], "Internal port"))
	require.Contains(t, double[0].Note, "Bridging")
	four.RouterWAN = netip.MustParseAddr("10.0.0.9")
	require.Equal(t, "10.0.0.9", value(t, Cards(page, recorder, four, wan.NAT{Verdict: wan.NATDouble})[0], "Internal address"),
		"what an operator entered")
	four.RouterWAN = netip.Addr{}
	require.Equal(t, "the WAN address of our own router",
		value(t, Cards(page, recorder, four, wan.NAT{Verdict: wan.NATDouble})[0], "Internal address"))

	require.Contains(t, Cards(page, wandering, four, wan.NAT{Verdict: wan.NATCarrier})[0].Note, "no forward helps")

	streams := page
	streams.ExternalFrom, streams.ExternalTo, streams.InternalFrom, streams.Transport = 5000, 5003, 6000, probe.Both
	ranged := Cards(streams, recorder, four, wan.NAT{})[0]
	require.Equal(t, "5000-5003", value(t, ranged, "External port"))
	require.Equal(t, "6000-6003", value(t, ranged, "Internal port"))

	recorder.IPv6 = netip.MustParseAddr("2001:db8::20")
	require.Len(t, Cards(page, recorder, four, wan.NAT{}), 1, "a link without IPv6 needs no opening for it")
	six := Link{IPv4: four.IPv4, IPv6: netip.MustParseAddr("2001:db8::1")}
	both := Cards(page, recorder, six, wan.NAT{})
	require.Len(t, both, 2)
	require.Equal(t, "2001:db8::20", value(t, both[1], "Destination address"))
	require.Equal(t, "443", value(t, both[1], "Destination port"), "IPv6 is not translated")

	own := page
	own.OnRouter = true
	require.Contains(t, Cards(own, recorder, four, wan.NAT{Verdict: wan.NATDouble})[0].Note, "No forward is needed")
}

func TestRangesOfAddresses(t *testing.T) {
	r, err := ParseRange(" 192.168.7.100 - 192.168.7.199 ")
	require.NoError(t, err)
	require.Equal(t, "192.168.7.100-192.168.7.199", r.String())
	from, to := r.Ends()
	require.Equal(t, RangeOf(from, to), r)
	for text, in := range map[string]bool{"192.168.7.99": false, "192.168.7.100": true, "192.168.7.150": true, "192.168.7.199": true,
		"192.168.7.200": false, "2001:db8::1": false} {
		require.Equal(t, in, r.Contains(netip.MustParseAddr(text)), text)
	}
	require.False(t, r.Contains(netip.Addr{}))
	none, err := ParseRange("")
	require.NoError(t, err)
	require.Empty(t, none.String())
	require.False(t, none.Contains(netip.MustParseAddr("192.168.7.100")))
	for _, text := range []string{"192.168.7.100", "192.168.7.199-192.168.7.100", "192.168.7.1-2001:db8::1", "a-b", "-", "192.168.7.1-"} {
		_, err := ParseRange(text)
		require.ErrorContains(t, err, "not a range of addresses", text)
	}
}
