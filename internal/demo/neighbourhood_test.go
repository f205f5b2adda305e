package demo

import (
	"log/slog"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/agent/lantest"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab"
)

func TestASimulatedSitesNetworkIsALAN(t *testing.T) {
	at := netip.MustParseAddrPort("127.201.200.20:10443")
	world, err := lab.New([]lab.SiteSpec{{Code: "ROO-31", Services: []lab.ServiceSpec{
		{Name: "recorder-page", Device: "recorder", LAN: at, Kind: probe.KindHTTP}}}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer world.Close()
	mac := "02:00:5e:31:00:01"
	lantest.Check(t, neighbourhood{agent.SystemLAN{Lab: []netip.Prefix{lab.LAN}}, world,
		place{code: "ROO-31", devices: []machine{{name: "recorder", mac: mac}}}},
		lantest.Site{Open: at, Refused: netip.AddrPortFrom(at.Addr(), 10444), Elsewhere: netip.MustParseAddr("198.51.100.7"),
			Neighbour: agent.Neighbour{Address: at.Addr(), MAC: mac}})
}
