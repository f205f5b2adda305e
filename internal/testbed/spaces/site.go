package spaces

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/stretchr/testify/require"
)

// Addresses of a site behind kernel NAT. miniupnpd refuses special addresses on its WAN side, and so outside has one that is not
// special; the spaces have no way out.
const (
	Outside = "1.2.3.1"
	Public  = "1.2.3.7"
	Machine = "192.168.7.20"
	Router  = "192.168.7.1"
	// FarPublic is the public address of a site that is further away, and Near that of its provider's last router.
	FarPublic = "1.2.5.7"
	Near      = "1.2.5.1"
)

// Site is a machine on a LAN ("lan"), its router with miniupnpd ("router"), perhaps a device that translates in front of it
// ("front"), and outside ("out").
type Site struct {
	Spaces
	WAN    string // the public address now
	edge   string // the space that has it
	behind Behind
	next   string // the provider's router, on the way out
	daemon *Process
	run    []string // that began it
}

// Behind says what stands in front of a site's router. Far puts two routers of providers, "core" and "near", between the site and outside.
type Behind struct {
	RouterWAN, Front string
	Far              bool
}

// Kinds of sites.
var (
	Direct       = Behind{RouterWAN: Public}
	BehindModem  = Behind{RouterWAN: "192.168.1.23", Front: "192.168.1.1"}
	BehindMiddle = Behind{RouterWAN: "100.64.7.9", Front: "100.64.7.1"} // a provider that translates
	// Sites two routers away from outside.
	FarDirect = Behind{RouterWAN: FarPublic, Far: true}
	FarModem  = Behind{RouterWAN: "192.168.1.23", Front: "192.168.1.1", Far: true}
	FarMiddle = Behind{RouterWAN: "100.64.7.9", Front: "100.64.7.1", Far: true}
)

// NewSite makes a site.
func NewSite(s Spaces, b Behind) *Site {
	s.t.Helper()
	s.Make("lan", "router", "out")
	s.In("router", "ip", "link", "add", "lan", "type", "bridge")
	s.In("router", "ip", "addr", "add", Router+"/24", "dev", "lan")
	s.In("router", "ip", "link", "set", "lan", "up")
	s.Join("lan lan0 "+Machine+"/24", "router port0")
	s.In("router", "ip", "link", "set", "port0", "master", "lan")
	s.In("lan", "ip", "route", "add", "default", "via", Router)
	site := &Site{Spaces: s, WAN: Public, edge: "router", behind: b, next: Outside}
	last := "out"
	if b.Far {
		site.WAN, site.next, last = FarPublic, Near, "near"
		s.farAway()
	}
	if b.Front == "" {
		s.Join("router wan "+b.RouterWAN+"/24", last+" wan "+site.next+"/24")
		s.In("router", "ip", "route", "add", "default", "via", site.next)
	} else {
		site.edge = "front"
		s.Make("front")
		s.Join("router wan "+b.RouterWAN+"/24", "front lan "+b.Front+"/24")
		s.Join("front wan "+site.WAN+"/24", last+" wan "+site.next+"/24")
		s.In("router", "ip", "route", "add", "default", "via", b.Front)
		s.In("front", "ip", "route", "add", "default", "via", site.next)
		s.Translate("front", "wan")
	}
	s.Translate("router", "wan")
	s.In("router", "nft", "add table inet filter; add chain inet filter miniupnpd; add chain inet filter prerouting_miniupnpd; add "+
		"chain inet filter postrouting_miniupnpd; "+
		"add chain inet filter prerouting { type nat hook prerouting priority -100; }; add rule inet filter prerouting jump "+
		"prerouting_miniupnpd")
	config := filepath.Join(s.t.TempDir(), "router.conf")
	require.NoError(s.t, os.WriteFile(config, []byte("ext_ifname=wan\nlistening_ip=lan\nenable_natpmp=yes\nenable_upnp=yes\n"+
		"secure_mode=yes\nport=0\nsystem_uptime=no\n"+
		"uuid=7b6b1a3c-0000-4000-8000-0000000000"+fmt.Sprintf("%02x", os.Getpid()&0xff)+
		"\nallow 1024-65535 192.168.7.0/24 1024-65535\ndeny 0-65535 0.0.0.0/0 0-65535\n"+
		"upnp_table_name=filter\nupnp_nat_table_name=filter\nupnp_forward_chain=miniupnpd\nupnp_nat_chain=prerouting_miniupnpd\n"+
		"upnp_nat_postrouting_chain=postrouting_miniupnpd\n"), 0o600))
	site.run = []string{"miniupnpd", "-d", "-f", config, "-P", filepath.Join(s.t.TempDir(), "pid")}
	site.daemon = s.Serve("router", site.run...)
	return site
}

// farAway puts two routers between outside and the site.
func (s Spaces) farAway() {
	s.Make("core", "near")
	s.Join("out wan "+Outside+"/24", "core out 1.2.3.254/24")
	s.Join("core in 1.2.4.1/24", "near out 1.2.4.2/24")
	s.In("out", "ip", "route", "add", "1.2.0.0/16", "via", "1.2.3.254")
	s.In("core", "ip", "route", "add", "1.2.5.0/24", "via", "1.2.4.2")
	s.In("near", "ip", "route", "add", "default", "via", "1.2.4.1")
}

// Restart has the router's gateway daemon begin anew, as when the router restarts.
func (s *Site) Restart() {
	s.t.Helper()
	s.daemon.Kill()
	s.daemon = s.Serve("router", s.run...)
}

// RouterWAN is the address of the router's WAN side.
func (s *Site) RouterWAN() string { return s.behind.RouterWAN }

// MoveTo returns the site another public address, as a provider does: what is under way through the old one is lost.
func (s *Site) MoveTo(to string) {
	s.t.Helper()
	s.In(s.edge, "sh", "-c", fmt.Sprintf("ip addr del %s/24 dev wan; ip addr add %s/24 dev wan; ip route replace default via %s",
		s.WAN, to, s.next))
	s.WAN = to
}

// Plug puts a further machine on the LAN: a space with one interface, eth0.
func (s *Site) Plug(space, mac string, addresses ...string) {
	s.t.Helper()
	s.Make(space)
	s.Join(space+" eth0", "router port-"+space)
	s.In(space, "ip", "link", "set", "eth0", "address", mac)
	s.In(space, "sysctl", "-qw", "net.ipv4.conf.all.arp_notify=1") // a machine that gets an address says so (RFC 5227)
	s.In("router", "ip", "link", "set", "port-"+space, "master", "lan")
	for _, a := range addresses {
		s.In(space, "ip", "addr", "add", a, "dev", "eth0", "nodad")
	}
	s.In(space, "ip", "route", "add", "default", "via", Router)
}

// Forward has the router, and what is in front of it, pass a TCP port on to an address of the LAN.
func (s *Site) Forward(port int, to string) {
	s.t.Helper()
	s.forward("router", port, to)
	if s.behind.Front != "" {
		s.forward("front", port, fmt.Sprintf("%s:%d", s.behind.RouterWAN, port))
	}
}

func (s *Site) forward(space string, port int, to string) {
	s.t.Helper()
	s.In(space, "nft", fmt.Sprintf("add table ip inkfwd; add chain ip inkfwd pre { type nat hook prerouting priority -110; }; add "+
		"rule ip inkfwd pre iifname wan tcp dport %d dnat to %s", port, to))
}
