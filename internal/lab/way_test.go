package lab

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/distance"
)

// TestTheLabSaysFromHowFar measures how far packets to the ports of a simulated site get, as behind a real router.
func TestTheLabSaysFromHowFar(t *testing.T) {
	w := world(t)
	if why := w.Limits(); why != "" {
		t.Skip(why)
	}
	at := netip.MustParseAddr(w.World().Sites[0].Links[0].Address)
	measure := func(port uint16) []probe.HopAnswer {
		out, err := distance.Measure(context.Background(), distance.Request{Transport: probe.TCP, Target: netip.AddrPortFrom(at, port),
			Limits: []int{1, 2, 3, 4, 5, 6}, Wait: 900 * time.Millisecond})
		require.NoError(t, err)
		return out
	}
	works, ok := probe.Calibrate(measure(8443), at, time.Now())
	require.True(t, ok, "%+v", measure(8443))
	require.Equal(t, []int{4, 1, 5}, []int{works.Router, works.NATs, works.Open}, "three routers of the provider, then the site's")
	require.Equal(t, hopAt(3), measure(8443)[2].ICMP.From)

	require.NoError(t, w.SetForward("KET-07", "shell", false))
	require.Equal(t, probe.EndsAtFirst, probe.Read(measure(8022), at, works), "no forward")
	require.NoError(t, w.SetForward("KET-07", "shell", true))
	require.NoError(t, w.SetService("KET-07", "shell", false))
	require.Equal(t, probe.RefusedBehind, probe.Read(measure(8022), at, works), "the service is stopped")
	require.Equal(t, probe.Refused, outcome(t, w, 8022))
	require.NoError(t, w.SetDevice("KET-07", "recorder", netip.Addr{}))
	list := measure(8443)
	require.Equal(t, probe.PassedOn, probe.Read(list, at, works), "the device sleeps: %+v", list)
	require.Equal(t, probe.HostUnreachable, list[5].ICMP.Notice())
	require.Equal(t, at, list[5].ICMP.From)
	require.NoError(t, w.SetLink("KET-07", "main", false))
	require.Equal(t, probe.HopNothing, measure(9000)[4].Reply, "the line is cut")
}
