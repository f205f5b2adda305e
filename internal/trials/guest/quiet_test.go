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
				return err == nil && l.Standing != nil && len(l.Standing.Sources) >= 3
			}, 20*time.Second, 100*time.Millisecond)
			time.Sleep(5 * time.Second) // the router's own announcements, at its start
			toRouter := p.Count("lan", "output", "ip daddr { "+spaces.Router+", 239.255.255.250 }")
			toServer := p.Count("lan", "output", "ip daddr "+spaces.Outside)
			busy := p.agent.Busy(t)
			time.Sleep(time.Minute) // time has to pass: it is silence that is measured
			require.LessOrEqual(t, toRouter(), 20)
			require.Less(t, p.agent.Busy(t)-busy, 200*time.Millisecond)
			t.Logf("%s: %d packets to the router, %d to the server, %s of a processor", name, toRouter(), toServer(), p.agent.Busy(t)-busy)
		})
	}
}
