package guest_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// An agent that is noticed at the site is taken out: nothing that it asks may be the reason for it to ask again.
func TestAQuietMinuteIsQuietOnTheWire(t *testing.T) {
	for name, b := range map[string]spaces.Behind{"direct": spaces.Direct, "modem": spaces.BehindModem, "carrier": spaces.BehindMiddle} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := settle(t, b)
			p.work()
			require.Eventually(t, func() bool { // its first questions are behind it
				l, err := p.Link(t.Context(), code, "main")
				return err == nil && l.Report != nil && len(l.Report.Sources) >= 3
			}, 20*time.Second, 100*time.Millisecond)
			time.Sleep(5 * time.Second) // the router's own announcements, at its start
			toRouter := p.Count("lan", "output", "ip daddr { "+spaces.Router+", 239.255.255.250 }")
			toServer := p.Count("lan", "output", "ip daddr "+spaces.Outside)
			heartbeat := p.Count("lan", "output", "ip daddr "+spaces.Outside+" udp dport 8478")
			busy := p.agent.Busy(t)
			quiet := time.Minute
			if rounds(1) > 1 { // figures are wanted
				quiet = 10 * time.Minute
			}
			time.Sleep(quiet) // time has to pass: it is silence that is measured
			used := p.agent.Busy(t) - busy
			t.Logf("%s, %s of quiet: to the router %+v, to the server %+v (of which heartbeats %+v), %s of a processor", name, quiet,
				toRouter(), toServer(), heartbeat(), used)
			require.LessOrEqual(t, toRouter().Packets, int(quiet/time.Minute)*20)
			require.LessOrEqual(t, used, max(100*time.Millisecond, quiet/600))
		})
	}
}

// A failure that lasts is no reason to ask the router without end: its packets are counted for a minute, on a link that lends ports.
func TestAFailureThatLastsBothersTheRouterLittle(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	s := inTrouble(t, spaces.FarDirect, true, false, client.Fields{"may_map": true})
	questions := s.Count("lan", "output", "ip daddr "+spaces.Router)
	broadcast := s.Count("lan", "output", "ip daddr 239.255.255.250")
	s.forwards("router", map[string]string{"page": ""})
	s.told("forward-missing", "service page", 40*time.Second)
	first := questions()
	time.Sleep(time.Minute) // what is not sent can only be waited for
	all := questions()
	t.Logf("until it was told: %d packets (%d octets) to the router; in the minute after: %d; searches: %d", first.Packets, first.Octets,
		all.Packets-first.Packets, broadcast().Packets)
	require.Positive(t, first.Packets, "the router was asked")
	require.Less(t, first.Packets, 200)
	require.LessOrEqual(t, all.Packets-first.Packets, 40, "it goes on being asked")
	require.LessOrEqual(t, broadcast().Packets, 4)
}
