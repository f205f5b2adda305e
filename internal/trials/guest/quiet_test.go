package guest_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

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
