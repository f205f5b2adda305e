package guest_test

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed/spaces"
)

// healthy is something that happens at sites, and is no fault: what begins it, and what ends it.
type healthy struct {
	name  string
	short bool // part of every test run
	begin func(s *troubled) (end func())
}

// losing has the provider's last router lose a share of all packets, both ways, in percent.
func losing(percent int) func(s *troubled) func() {
	return func(s *troubled) func() {
		s.rule("near", "inkfault", "forward", fmt.Sprintf("numgen random mod 100 < %d drop", percent))
		return func() { s.unrule("near", "inkfault") }
	}
}

var wells = []healthy{
	{name: "nothing happens", begin: func(*troubled) func() { return func() {} }},
	{name: "the line loses 1 % of its packets", begin: losing(1)},
	{name: "the line loses 5 % of its packets", short: true, begin: losing(5)},
	{name: "routers send no ICMP", begin: func(s *troubled) func() {
		list := append([]string{"near", "core"}, s.edges()...)
		for _, space := range list {
			s.rule(space, "inkfault", "output", "ip protocol icmp drop")
		}
		return func() {
			for _, space := range list {
				s.unrule(space, "inkfault")
			}
		}
	}},
	{name: "the provider limits how much ICMP it sends", begin: func(s *troubled) func() {
		s.rule("near", "inkfault", "output", "ip protocol icmp limit rate over 1/second drop")
		return func() { s.unrule("near", "inkfault") }
	}},
	{name: "the router loops traffic back", begin: func(s *troubled) func() {
		s.In("router", "nft", fmt.Sprintf("add table ip inkloop; add chain ip inkloop pre { type nat hook prerouting priority -110; }; "+
			"add chain ip inkloop post { type nat hook postrouting priority 90; }; add rule ip inkloop pre iifname lan ip daddr %s tcp "+
			"dport 8443 dnat to %s:8443; add rule ip inkloop post oifname lan ip saddr 192.168.7.0/24 masquerade", s.WAN, recorderAt))
		return func() { s.In("router", "nft", "delete table ip inkloop") }
	}},
	{name: "the provider gives another address, and takes it back", begin: func(s *troubled) func() {
		before := s.WAN
		s.MoveTo("1.2.5.9")
		s.awaitName("1.2.5.9", 30*time.Second)
		return func() {
			s.MoveTo(before)
			s.awaitName(before, 30*time.Second)
		}
	}},
	{name: "the line is away for three seconds", begin: func(s *troubled) func() {
		s.In(s.edge(), "sh", "-c", "ip link set wan down; sleep 3; ip link set wan up; ip route replace default via 1.2.5.1")
		return func() {}
	}},
	{name: "a server restarts", begin: func(s *troubled) func() {
		s.stop("page")
		s.start("page")
		s.stop("shell")
		s.start("shell")
		return func() {}
	}},
	{name: "a server pauses for two seconds", begin: func(s *troubled) func() {
		thaw := s.freeze("page")
		time.AfterFunc(2*time.Second, thaw)
		return func() {}
	}},
	{name: "the agent starts anew", begin: func(s *troubled) func() {
		s.agent.Kill()
		s.agent = s.again()
		return func() {}
	}},
	{name: "a device takes new connections at a limited rate", begin: func(s *troubled) func() {
		s.rule("recorder", "inkfault", "input", "tcp flags syn limit rate over 5/second burst 10 packets drop")
		return func() { s.unrule("recorder", "inkfault") }
	}},
	{name: "the router asks for nothing and lists nothing", begin: func(s *troubled) func() {
		s.rule("router", "inkfault", "input", "iifname lan udp dport { 1900, 5350, 5351 } drop")
		return func() { s.unrule("router", "inkfault") }
	}},
}

// again starts the agent anew, with what it has kept.
func (s *troubled) again() *spaces.Process {
	return s.Serve("lan", s.command...)
}

// TestNoFaultWhereAllIsWell has things happen that are no faults, behind real kernel NAT, and holds that none is told. INKPOST_TRUTH=full
// has all of them happen.
func TestNoFaultWhereAllIsWell(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	t.Parallel()
	full := os.Getenv("INKPOST_TRUTH") == "full"
	for name, b := range map[string]spaces.Behind{"router": spaces.FarDirect, "modem": spaces.FarModem} {
		if !full && name == "modem" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := inTrouble(t, b, true, full, nil)
			for _, w := range wells {
				if only := os.Getenv("INKPOST_FAULT"); only != "" && only != w.name || !full && !w.short {
					continue
				}
				before := len(s.serious())
				end := w.begin(s)
				s.steady(before, w.name)
				end()
				s.steady(before, w.name+": over")
				if full {
					fmt.Printf("well         %-10s %s\n", name, w.name)
				}
			}
		})
	}
}

// steadyFor is how long nothing may be told: three intervals.
const steadyFor = 30 * time.Second

func (s *troubled) steady(before int, what string) {
	s.t.Helper()
	until := time.Now().Add(steadyFor)
	for time.Now().Before(until) {
		list := s.serious()
		require.Len(s.t, list, before, "%s: %v", what, list)
		time.Sleep(time.Second) // that nothing happens can only be waited for
	}
}
