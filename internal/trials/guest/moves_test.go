package guest_test

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// rounds is how often something is tried: a few times in the tests, more where figures are wanted.
func rounds(few int) int {
	if n, err := strconv.Atoi(os.Getenv("INKPOST_ROUNDS")); err == nil {
		return n
	}
	return few
}

// occupied is a site with two services of one device, which moves between addresses at which somebody else answers once it is gone.
func occupied(t *testing.T, b spaces.Behind) *place {
	p := settle(t, b)
	p.work()
	_, err := p.AddDevice(t.Context(), code, contract.DeviceInput{Name: "recorder", Address: spaces.Machine})
	require.NoError(t, err)
	p.expose("shell", 8022, probe.KindSSH)
	p.expose("page", 8080, probe.KindHTTP)
	return p
}

// renumber moves the site; every other time somebody else is at its old address at once.
func (p *place) renumber(round int) time.Duration {
	p.t.Helper()
	was, to := p.WAN, fmt.Sprintf("1.2.3.%d", 20+round)
	p.MoveTo(to)
	began := time.Now()
	if round%2 == 0 {
		p.In("out", "ip", "addr", "add", was+"/32", "dev", "lo")
		p.stand("out", peer.Peer{Kind: probe.KindSSH, Name: "a stranger"}, was+":8022")
		p.stand("out", peer.Peer{Kind: probe.KindHTTP, Name: "a stranger"}, was+":8080")
	}
	p.awaitName(to, 40*time.Second)
	return time.Since(began)
}

// steady waits until both services are reached at the address of now.
func (p *place) steady() {
	p.t.Helper()
	for _, service := range []string{"shell", "page"} {
		require.Eventually(p.t, func() bool {
			got, err := p.Service(p.t.Context(), code, service)
			return err == nil && got.State == probe.StateReachable && got.Outcome.Good() && got.Address.String() == p.WAN
		}, 20*time.Second, 50*time.Millisecond)
	}
}

func report(t *testing.T, what string, took []time.Duration) {
	t.Helper()
	slices.Sort(took)
	t.Logf("%s: %d times, median %s, longest %s", what, len(took), took[len(took)/2].Round(10*time.Millisecond),
		took[len(took)-1].Round(10*time.Millisecond))
}

func TestARenumberingIsFollowedByNoticeAndOpensNoFault(t *testing.T) {
	t.Parallel()
	p := occupied(t, spaces.Direct)
	var took []time.Duration
	for round := range rounds(5) {
		took = append(took, p.renumber(round))
		p.steady()
	}
	report(t, "by the router's notice", took)
	require.Less(t, took[len(took)/2], 2*time.Second)
	require.Less(t, took[len(took)-1], 5*time.Second)
	require.Empty(t, p.serious())
}

func TestARenumberingIsFollowedByPollingAndOpensNoFault(t *testing.T) {
	t.Parallel()
	p := occupied(t, spaces.BehindModem) // whose router knows nothing of it
	var took []time.Duration
	for round := range rounds(4) {
		took = append(took, p.renumber(round))
		p.steady()
	}
	report(t, "by polling", took)
	require.Less(t, took[len(took)-1], 17*time.Second)
	require.Empty(t, p.serious())
}

func TestASiteThatComesBackIsFollowedSoon(t *testing.T) {
	t.Parallel()
	p := settle(t, spaces.BehindModem)
	p.work()
	away := 30 * time.Second
	if os.Getenv("INKPOST_ROUNDS") != "" {
		away = 100 * time.Second
	}
	p.In("front", "ip", "link", "set", "wan", "down")
	time.Sleep(away) // long enough for pauses to have grown
	p.In("front", "ip", "link", "set", "wan", "up")
	p.MoveTo("1.2.3.99")
	took := p.awaitName("1.2.3.99", 40*time.Second)
	t.Logf("after %s without a line: followed %s after it came back", away, took.Round(10*time.Millisecond))
	require.Less(t, took, 16*time.Second)
}

// The site moves while the service is down, and somebody else is at its old address when it starts.
func TestARestartDuringARenumberingOpensNoFault(t *testing.T) {
	t.Parallel()
	p := occupied(t, spaces.BehindModem)
	for round := range 3 {
		was, to := p.WAN, fmt.Sprintf("1.2.3.%d", 120+round)
		p.service.Kill()
		p.MoveTo(to)
		p.In("out", "ip", "addr", "add", was+"/32", "dev", "lo")
		p.stand("out", peer.Peer{Kind: probe.KindSSH, Name: "a stranger"}, was+":8022")
		p.stand("out", peer.Peer{Kind: probe.KindHTTP, Name: "a stranger"}, was+":8080")
		p.serve()
		p.awaitName(to, 40*time.Second)
		p.steady()
	}
	require.Empty(t, p.serious())
}
