package lanlist_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/lanlist"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

func entry(name, mac, address string) lanlist.Entry {
	return lanlist.Entry{Name: name, MAC: mac, Address: netip.MustParseAddr(address)}
}

func TestListsAreReadAsRoutersPrintThem(t *testing.T) {
	for form, c := range map[string]struct {
		text string
		want []lanlist.Entry
	}{
		lanlist.ISC: {`# The format of this file is documented in the dhcpd.leases(5) manual page.
authoring-byte-order little-endian;
lease 192.168.7.20 {
  starts 1 2026/11/30 08:00:00;
  ends 1 2026/11/30 20:00:00;
  binding state active;
  next binding state free;
  hardware ethernet 02:00:5E:07:00:01;
  uid "\001\002\000^\007\000\001";
  client-hostname "Recorder";
}
lease 192.168.7.30 {
  ends 0 2026/11/29 20:00:00;
  binding state active;
  hardware ethernet 02:00:5e:07:00:09;
}
lease 192.168.7.31 {
  ends never;
  binding state free;
  hardware ethernet 02:00:5e:07:00:0a;
}
lease 192.168.7.40 {
  ends never;
  binding state active;
  hardware ethernet 02:00:5e:07:00:02;
}
lease 192.168.7.21 {
  starts 1 2026/11/30 09:00:00;
  ends 1 2026/11/30 21:00:00;
  hardware ethernet 02:00:5e:07:00:01;
  client-hostname "Recorder.lan";
}
`, []lanlist.Entry{entry("recorder", "02:00:5e:07:00:01", "192.168.7.21"), entry("", "02:00:5e:07:00:02", "192.168.7.40")}},
		lanlist.Dnsmasq: {`1796126400 02:00:5e:07:00:01 192.168.7.20 Lobby_Recorder 01:02:00:5e:07:00:01
0 02:00:5e:07:00:02 192.168.7.21 * *
1764000000 02:00:5e:07:00:03 192.168.7.22 expired *
duid 00:01:00:01:2c:4f
1796126400 1234 2001:db8::20 recorder 00:01
`, []lanlist.Entry{entry("lobby-recorder", "02:00:5e:07:00:01", "192.168.7.20"), entry("", "02:00:5e:07:00:02", "192.168.7.21")}},
		lanlist.Neighbour: {`192.168.7.21 dev br-lan lladdr 02:00:5e:07:00:02 STALE
192.168.7.20 dev br-lan lladdr 02:00:5e:07:00:01 ref 1 used 0/0/0 probes 1 REACHABLE
192.168.7.99 dev br-lan  FAILED
fe80::1 dev wan lladdr 02:00:5e:07:00:ff router STALE
`, []lanlist.Entry{entry("", "02:00:5e:07:00:01", "192.168.7.20"), entry("", "02:00:5e:07:00:02", "192.168.7.21")}},
		lanlist.ARP: {`recorder.lan (192.168.7.20) at 02:00:5e:07:00:01 [ether] on br-lan
? (192.168.7.21) at 02:00:5e:07:00:02 [ether] on br-lan
? (192.168.7.30) at <incomplete> on br-lan
`, []lanlist.Entry{entry("recorder", "02:00:5e:07:00:01", "192.168.7.20"), entry("", "02:00:5e:07:00:02", "192.168.7.21")}},
	} {
		got, list, err := lanlist.Read(c.text, noon)
		require.NoError(t, err, form)
		require.Equal(t, form, got)
		require.Equal(t, c.want, list, form)
	}
	for _, text := range []string{"", "recorder 192.168.7.20", "lease 1.2.3.4 {", "0 a b c"} {
		_, _, err := lanlist.Read(text, noon)
		require.ErrorContains(t, err, "dnsmasq")
	}
}

func FuzzRead(f *testing.F) {
	f.Add("lease 192.168.7.20 {\n hardware ethernet 02:00:5e:07:00:01;\n}\n")
	f.Fuzz(func(t *testing.T, text string) {
		_, list, err := lanlist.Read(text, noon)
		require.Equal(t, err == nil, len(list) > 0)
		for _, e := range list {
			require.True(t, e.Address.Is4())
			require.LessOrEqual(t, len(e.Name), 32)
		}
	})
}
