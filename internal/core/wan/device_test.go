package wan

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestADeviceIsKnownByOneIPv6Address(t *testing.T) {
	mac := [6]byte{0x02, 0, 0x5e, 7, 0, 1}
	made := netip.MustParseAddr("2001:db8:7::5eff:fe07:1")
	require.Equal(t, made, EUI64(netip.MustParsePrefix("2001:db8:7::/64"), mac))
	require.True(t, IsEUI64(made, mac))
	require.False(t, IsEUI64(made.Next(), mac))
	require.False(t, IsEUI64(netip.MustParseAddr("192.168.7.20"), mac))
	lived := func(text string, ago time.Duration) Lived {
		return Lived{netip.MustParseAddr(text), weighNow.Add(-ago)}
	}
	old, young := lived("2001:db8:7::aaaa:1", 30*time.Hour), lived("2001:db8:7::bbbb:2", time.Hour)
	eui := Lived{made, weighNow}
	for name, c := range map[string]struct {
		list  []Lived
		known netip.Addr
		want  netip.Addr
	}{
		"none":                            {nil, made, netip.Addr{}},
		"the one that is made of the MAC": {[]Lived{young, old, eui}, netip.Addr{}, made},
		"the one that has lived longest":  {[]Lived{young, old}, netip.Addr{}, old.Address},
		"as long: always the same": {[]Lived{lived("2001:db8:7::2", 0), lived("2001:db8:7::1", 0)}, netip.Addr{},
			netip.MustParseAddr("2001:db8:7::1")},
		"the known one stays":                {[]Lived{eui, old, young}, young.Address, young.Address},
		"the known one is gone":              {[]Lived{young, eui}, old.Address, made},
		"the known one is gone, none is EUI": {[]Lived{young, old}, made, old.Address},
		"a new prefix: made of the MAC again": {[]Lived{lived("2001:db8:8::5eff:fe07:1", 0), lived("2001:db8:8::cccc", time.Hour)},
			made, netip.MustParseAddr("2001:db8:8::5eff:fe07:1")},
	} {
		require.Equal(t, c.want, StableIPv6(c.list, mac, c.known), name)
	}
}
