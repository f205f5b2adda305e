package diagnose

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

func TestSilenceCountsFromWhenServicesAnsweredAgain(t *testing.T) {
	e := scene()
	e.Links[0].Overdue, e.Links[0].Every = true, time.Minute
	turned := func(ago ...time.Duration) {
		for i, d := range ago {
			e.Services[i].Turned = now.Add(-d)
		}
	}
	turned(10*time.Second, 20*time.Second, 30*time.Second)
	require.Empty(t, Site(e), "the line is back for half a minute: an agent that looks each minute may not have been heard yet")
	turned(10*time.Second, 5*time.Minute, 30*time.Second)
	require.Len(t, Site(e), 1, "one service answered all the time: the line was up")
	turned(5*time.Minute, 5*time.Minute, 5*time.Minute)
	require.EqualValues(t, "updater-overdue", Site(e)[0].Cause)
}

func TestAMoveMakesNoLookFromInsideTooOld(t *testing.T) {
	e := scene()
	e.Began = now.Add(-time.Hour)
	fail(&e, probe.Silent, 2)
	lookFromInside(&e, "desk", DeviceReport{Missed: 3})
	look := e.Seen["desk"]
	look.At = now.Add(-20 * time.Second)
	e.Seen["desk"] = look
	e.Services[2].Turned = now.Add(-10 * time.Second)
	require.NotEqualValues(t, "device-off", Site(e)[0].Cause, "it began to fail after the look")
	e.Links[0].Since = now.Add(-15 * time.Second)
	require.EqualValues(t, "device-off", Site(e)[0].Cause, "it is counted anew at another address: the device was away before and is now")
	e.Links[0].Since = now.Add(-time.Hour)
	require.NotEqualValues(t, "device-off", Site(e)[0].Cause)
}

// A site is renumbered, and its provider's lines go dark right afterwards: that its LAN was well before that explains nothing.
func TestALookFromBeforeAnOutageSaysNothingOfIt(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 0, 1, 2)
	for i := range e.Services {
		e.Services[i].Turned = now.Add(-30 * time.Second)
		lookFromInside(&e, e.Services[i].Device, DeviceReport{Present: true, Ports: map[string]string{e.Services[i].Name: "open"}})
		look := e.Seen[e.Services[i].Device]
		look.At = now.Add(-50 * time.Second)
		e.Seen[e.Services[i].Device] = look
	}
	l := &e.Links[0]
	l.Since, l.Heard, l.NAT.Verdict = now.Add(-40*time.Second), now.Add(-40*time.Second), wan.NATDouble
	l.Gateway, l.DarkWith, l.ProviderSites = netip.MustParseAddr("192.168.0.2"), 3, 9
	require.EqualValues(t, "provider-outage", Site(e)[0].Cause)
	l.DarkWith = 0
	require.EqualValues(t, "double-nat", Site(e)[0].Cause, "the agent has yet to be heard or not")
	l.Overdue = true
	require.EqualValues(t, "site-dark", Site(e)[0].Cause)
}
