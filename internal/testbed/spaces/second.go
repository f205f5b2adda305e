package spaces

import "fmt"

// Addresses of a site's second link, by another provider.
const (
	SecondPublic  = "1.2.7.7"
	SecondMachine = "192.168.7.21"
	secondRouter  = "192.168.7.2"
	secondNear    = "1.2.7.1"
)

// Second gives a site that is far away a second router on the same LAN, "router2", with another provider, "near2"; the machine on the LAN
// gets a second interface, lan1, whose traffic goes that way. What comes in by it reaches devices as the second router's own traffic: their
// answers go back the same way.
func (s *Site) Second() {
	s.t.Helper()
	s.Make("router2", "near2")
	s.Join("out second 1.2.8.1/24", "near2 out 1.2.8.2/24")
	s.Join("near2 wan "+secondNear+"/24", "router2 wan "+SecondPublic+"/24")
	s.Join("router2 lan "+secondRouter+"/24", "router port-r2")
	s.Join("lan lan1 "+SecondMachine+"/24", "router port-l2")
	for _, port := range []string{"port-r2", "port-l2"} {
		s.In("router", "ip", "link", "set", port, "master", "lan")
	}
	s.In("out", "ip", "route", "add", "1.2.7.0/24", "via", "1.2.8.2")
	s.In("near2", "ip", "route", "add", "default", "via", "1.2.8.1")
	s.In("router2", "ip", "route", "add", "default", "via", secondNear)
	s.In("lan", "ip", "route", "add", "default", "via", secondRouter, "dev", "lan1", "metric", "200")
	for _, c := range []string{"all", "lan0", "lan1"} { // each interface answers for its own address only
		s.In("lan", "sysctl", "-qw", fmt.Sprintf("net.ipv4.conf.%s.arp_ignore=1", c), fmt.Sprintf("net.ipv4.conf.%s.arp_announce=2", c))
	}
	s.Translate("router2", "wan")
	s.In("router2", "nft", "add rule ip inknat post oifname lan masquerade")
}
