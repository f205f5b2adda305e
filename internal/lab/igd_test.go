package lab

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/wire/igd"
	"inkpost.example/inkpost/internal/wire/natpmp"
)

func TestARouterTellsItsAddressAndThatItChanged(t *testing.T) {
	at := netip.MustParseAddr("127.204.0.1")
	w, err := New([]SiteSpec{{Code: "KET-07", Links: []LinkSpec{{Label: "main", Provider: "Kettle Cable", Gateway: at}}},
		{Code: "OYS-03", Links: []LinkSpec{{Label: "main", Provider: "Kettle Cable", Gateway: netip.MustParseAddr("127.204.0.2"),
			Told: netip.MustParseAddr("192.168.1.23")}}}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer w.Close()
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	before := w.World().Sites[0].Links[0].Address
	a, _, err := natpmp.External(t.Context(), dial, netip.AddrPortFrom(at, natpmp.Port))
	require.NoError(t, err)
	require.Equal(t, before, a.String())
	modem, _, err := natpmp.External(t.Context(), dial, netip.AddrPortFrom(netip.MustParseAddr("127.204.0.2"), natpmp.Port))
	require.NoError(t, err)
	require.Equal(t, "192.168.1.23", modem.String(), "it tells the address that it was given by the device in front of it")

	g, err := igd.Find(t.Context(), netip.MustParseAddr("127.0.0.1"), netip.AddrPortFrom(at, 1900))
	require.NoError(t, err)
	a, err = g.External(t.Context())
	require.NoError(t, err)
	require.Equal(t, before, a.String())
	up, err := g.Status(t.Context())
	require.NoError(t, err)
	require.Equal(t, "Connected", up.Connection)
	_, listed, err := g.Listed(t.Context(), "tcp", 8443)
	require.NoError(t, err)
	require.False(t, listed, "this site has no forwards")
	require.Error(t, g.Add(t.Context(), "tcp", 8443, netip.MustParseAddrPort("127.204.0.9:1"), time.Minute), "machines may not ask")
	changed := make(chan bool, 10)
	watching := make(chan error, 1)
	ctx, stop := context.WithCancel(t.Context())
	go func() {
		watching <- g.Watch(ctx, netip.MustParseAddr("127.0.0.1"), func(igd.Notice) { changed <- true })
	}()
	require.Eventually(t, func() bool {
		_, err := w.Renumber("KET-07", "main")
		require.NoError(t, err)
		select {
		case <-changed:
			return true
		case <-time.After(100 * time.Millisecond):
			return false // not subscribed yet
		}
	}, 5*time.Second, 10*time.Millisecond)
	a, err = g.External(t.Context())
	require.NoError(t, err)
	require.Equal(t, w.World().Sites[0].Links[0].Address, a.String())
	stop()
	require.NoError(t, <-watching)
}
