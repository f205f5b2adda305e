package guest_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// A site with two providers: a line that is down is told as that, names and probes follow the other link, a fault there is told there, and
// both lines down are one dark site.
func TestASiteWithTwoProviders(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	t.Parallel()
	s := &troubled{place: settle(t, spaces.FarDirect, "--hold-down", "5s"), running: running{of: map[string]*spaces.Process{},
		dirs: map[string]string{}}}
	s.Second()
	s.Plug("recorder", recorderMAC, recorderAt+"/24")
	s.start("page")
	_, err := s.AddLink(t.Context(), code, contract.LinkInput{Label: "backup", Provider: "Gannet Mobile", Position: 2})
	require.NoError(t, err)
	s.forwardOf("router", true)
	s.forwardOf("router2", true)
	config := "links:\n"
	for link, at := range map[string]string{"main": "lan0", "backup": "lan1"} {
		inv, err := s.Invite(t.Context(), code, link)
		require.NoError(t, err)
		config += fmt.Sprintf("- interface: %s\n  code: %s\n", at, inv.Code)
	}
	file := filepath.Join(t.TempDir(), "agent.yaml")
	require.NoError(t, os.WriteFile(file, []byte(config), 0o600))
	s.agent = s.Serve("lan", testbed.Program(t), "agent", "run", "--server", api, "--config", file, "--state",
		filepath.Join(t.TempDir(), "agent"), "--log-level", "debug")
	s.awaitName(spaces.FarPublic, 30*time.Second)
	require.EventuallyWithT(t, func(c *collect) {
		l, err := s.Link(context.Background(), code, "backup")
		require.NoError(c, err)
		require.Equal(c, spaces.SecondPublic, l.IPv4.String())
	}, 30*time.Second, 100*time.Millisecond)
	_, err = s.AddDevice(t.Context(), code, contract.DeviceInput{Name: "recorder", Address: recorderAt, MAC: recorderMAC})
	require.NoError(t, err)
	_, err = s.AddService(t.Context(), code, contract.ServiceInput{Name: "page", Device: "recorder", Kind: "https", External: "8443",
		Interval: 10})
	require.NoError(t, err)
	s.awaitHealthy(30 * time.Second)

	s.In("router", "ip", "link", "set", "wan", "down")
	t.Logf("the name led to the second link after %s", s.awaitName(spaces.SecondPublic, 60*time.Second).Round(time.Millisecond))
	s.told("link-failing", "link main", 60*time.Second)
	require.EventuallyWithT(t, func(c *collect) {
		got, err := s.Service(context.Background(), code, "page")
		require.NoError(c, err)
		require.Equal(c, probe.StateReachable, got.State, "it is probed, and reached, at the second link: %s", got.Message)
	}, 60*time.Second, 200*time.Millisecond)

	s.forwardOf("router2", false)
	s.told("forward-missing", "service page", 60*time.Second)
	s.forwardOf("router2", true)
	s.In("router", "sh", "-c", "ip link set wan up; ip route replace default via "+spaces.Near)
	s.awaitName(spaces.FarPublic, 60*time.Second)
	s.awaitHealthy(90 * time.Second)

	s.In("router2", "ip", "link", "set", "wan", "down")
	s.In("router", "ip", "link", "set", "wan", "down")
	require.EventuallyWithT(t, func(c *collect) {
		list, err := s.Faults(context.Background(), code, true)
		require.NoError(c, err)
		for _, f := range list {
			require.Contains(c, []string{"site-dark", "link-failing", "updater-overdue"}, string(f.Finding.Cause), "%s", f.Finding.Summary)
		}
		got, _, ok := s.dark()
		require.True(c, ok, "%+v", got)
	}, 90*time.Second, 200*time.Millisecond)
}

// dark returns the fault that says that the site is dark.
func (s *troubled) dark() (words string, at time.Time, ok bool) {
	list, err := s.Faults(context.Background(), code, true)
	if err != nil {
		return "", at, false
	}
	for _, f := range list {
		if words = f.Finding.Summary; f.Finding.Cause == "site-dark" {
			return words, f.Opened, true
		}
	}
	return words, at, false
}

// told waits until a fault of a cause is open, and no other serious one but for links that are down.
func (s *troubled) told(cause, subject string, within time.Duration) {
	s.t.Helper()
	require.EventuallyWithT(s.t, func(c *collect) {
		list, err := s.Faults(context.Background(), code, true)
		require.NoError(c, err)
		there := false
		for _, f := range list {
			there = there || string(f.Finding.Cause) == cause && f.Finding.Subject == subject
		}
		require.True(c, there, "%s of %s is not told: %+v", cause, subject, list)
	}, within, 200*time.Millisecond)
}

// forwardOf has one of two routers pass the page on, or drop it.
func (s *troubled) forwardOf(space string, on bool) {
	s.In(space, "nft", "add table ip inkfwd; delete table ip inkfwd; add table ip inkfwd; add chain ip inkfwd pre { type nat hook "+
		"prerouting priority -110; }; add chain ip inkfwd in { type filter hook input priority -5; }; add rule ip inkfwd in iifname "+
		"wan tcp "+
		"dport 8443 drop")
	if on {
		s.In(space, "nft", "add rule ip inkfwd pre iifname wan tcp dport 8443 dnat to "+recorderAt+":8443")
	}
}
