package guest_test

import (
	"context"
	"net/netip"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed/spaces"
	"inkpost.example/inkpost/internal/wire/natpmp"
)

// trouble is one kind of fault: how it is made and mended, and what is right to say of it.
type trouble struct {
	name    string
	of      string // service that it is looked at; page if empty
	and     string // another fault at the same time
	modem   bool   // it takes a modem in front of the router
	carrier bool   // it takes a provider that translates
	within  bool   // it is behind the router, and made behind a provider that translates, too
	inside  bool   // it can be told only with an agent
	public  bool   // the router has to have the public address itself
	lent    bool   // it is made where the router may be asked for a port, too
	short   bool   // it is made in every test run
	want    []causes.Slug
	alone   []causes.Slug // what is right to say, too, where no agent looks from inside
	make    func(s *troubled) (mend func())
}

func (f trouble) service() string {
	if f.of == "" {
		return "page"
	}
	return f.of
}

// edge is the space at the edge of the site: the modem's, where there is one.
func (s *troubled) edge() string {
	list := s.edges()
	return list[len(list)-1]
}

var troubles = []trouble{
	{name: "no forward", short: true, lent: true, want: []causes.Slug{"forward-missing"}, make: func(s *troubled) func() {
		s.forwards("router", map[string]string{"page": ""})
		return func() { s.forwards("router", nil) }
	}},
	{name: "the router refuses", want: []causes.Slug{"router-refuses"}, make: func(s *troubled) func() {
		s.quietRouter(false)
		s.forwards("router", map[string]string{"page": ""})
		return func() { s.forwards("router", nil); s.quietRouter(true) }
	}},
	{name: "the router prohibits", want: []causes.Slug{"router-refuses"}, make: func(s *troubled) func() {
		s.forwards("router", map[string]string{"page": ""})
		s.unrule("router", "inkquiet")
		s.rule("router", "inkquiet", "input", "iifname wan tcp dport 8000-9000 reject with icmpx admin-prohibited")
		return func() {
			s.unrule("router", "inkquiet")
			s.rule("router", "inkquiet", "input", "iifname wan meta l4proto { tcp, udp } th dport 8000-9000 drop")
			s.forwards("router", nil)
		}
	}},
	{name: "the provider drops the port early", short: true, want: []causes.Slug{"port-blocked"}, make: func(s *troubled) func() {
		s.rule("core", "inkfault", "forward", "tcp dport 8443 drop")
		return func() { s.unrule("core", "inkfault") }
	}},
	{name: "the provider drops the port late", lent: true, want: []causes.Slug{"port-blocked"}, make: func(s *troubled) func() {
		s.rule("near", "inkfault", "forward", "tcp dport 8443 drop")
		return func() { s.unrule("near", "inkfault") }
	}},
	{name: "the provider prohibits the port", want: []causes.Slug{"port-blocked"}, make: func(s *troubled) func() {
		s.rule("near", "inkfault", "forward", "tcp dport 8443 reject with icmpx admin-prohibited")
		return func() { s.unrule("near", "inkfault") }
	}},
	{name: "the device's firewall", want: []causes.Slug{"device-firewall"}, alone: []causes.Slug{"device-lan-only"},
		make: func(s *troubled) func() {
			s.rule("recorder", "inkfault", "input", "tcp dport 8443 drop")
			return func() { s.unrule("recorder", "inkfault") }
		}},
	{name: "the device prohibits", want: []causes.Slug{"device-firewall"}, alone: []causes.Slug{"device-lan-only"},
		make: func(s *troubled) func() {
			s.rule("recorder", "inkfault", "input", "tcp dport 8443 reject with icmpx admin-prohibited")
			return func() { s.unrule("recorder", "inkfault") }
		}},
	{name: "the device lets its LAN in only", want: []causes.Slug{"device-lan-only"}, alone: []causes.Slug{"device-firewall"},
		make: func(s *troubled) func() {
			s.rule("recorder", "inkfault", "input", "ip saddr != 192.168.7.0/24 tcp dport 8443 drop")
			return func() { s.unrule("recorder", "inkfault") }
		}},
	{name: "the device is off", short: true, within: true, want: []causes.Slug{"device-off"}, make: func(s *troubled) func() {
		s.In("recorder", "ip", "link", "set", "eth0", "down")
		return func() { s.up("recorder") }
	}},
	{name: "the service stopped", within: true, want: []causes.Slug{"service-stopped"}, make: func(s *troubled) func() {
		s.stop("page")
		return func() { s.start("page") }
	}},
	{name: "the service hangs", want: []causes.Slug{"service-hung"}, make: func(s *troubled) func() {
		return s.freeze("page")
	}},
	{name: "another key", want: []causes.Slug{"service-changed"}, alone: []causes.Slug{"forward-astray"}, make: func(s *troubled) func() {
		return s.replace("page", peer.Peer{Kind: probe.KindHTTPS, Name: "another page"})
	}},
	{name: "another protocol", want: []causes.Slug{"other-protocol"}, make: func(s *troubled) func() {
		return s.replace("page", peer.Peer{Kind: probe.KindSSH, Name: "a shell"})
	}},
	{name: "the device has another address", short: true, want: []causes.Slug{"device-drifted"}, alone: []causes.Slug{"device-off"},
		make: func(s *troubled) func() {
			s.In("recorder", "sh", "-c", "ip addr flush dev eth0 scope global; ip addr add 192.168.7.177/24 dev eth0; ip route add "+
				"default via 192.168.7.1")
			return func() {
				s.In("recorder", "sh", "-c", "ip addr flush dev eth0 scope global; ip addr add "+recorderAt+"/24 dev eth0; ip route add "+
					"default via 192.168.7.1")
			}
		}},
	{name: "another machine has the address", want: []causes.Slug{"address-taken"}, alone: []causes.Slug{"service-stopped",
		"forward-wrong-port"}, make: func(s *troubled) func() {
		s.In("recorder", "ip", "link", "set", "eth0", "down")
		s.In("desk", "sh", "-c", "ip addr add "+recorderAt+"/32 dev eth0")
		return func() {
			s.In("desk", "ip", "addr", "del", recorderAt+"/32", "dev", "eth0")
			s.up("recorder")
		}
	}},
	{name: "the forward leads to another device", want: []causes.Slug{"forward-astray", "forward-wrong-port"},
		alone: []causes.Slug{"service-stopped"}, make: func(s *troubled) func() {
			s.forwards("router", map[string]string{"page": deskAt + ":8443"})
			return func() { s.forwards("router", nil) }
		}},
	{name: "the forward leads to another device's key", of: "shell", want: []causes.Slug{"forward-astray"},
		alone: []causes.Slug{"service-changed"}, make: func(s *troubled) func() {
			stop := s.stand("recorder", peer.Peer{Kind: probe.KindSSH, Name: "another shell"}, "0.0.0.0:8023")
			s.forwards("router", map[string]string{"shell": recorderAt + ":8023"})
			return func() { stop(); s.forwards("router", nil) }
		}},
	{name: "the forward leads to another port", want: []causes.Slug{"forward-wrong-port", "forward-astray"},
		alone: []causes.Slug{"service-stopped"}, make: func(s *troubled) func() {
			s.forwards("router", map[string]string{"page": recorderAt + ":9443"})
			return func() { s.forwards("router", nil) }
		}},
	{name: "the line is down", want: []causes.Slug{"site-dark"}, make: func(s *troubled) func() {
		s.In(s.edge(), "ip", "link", "set", "wan", "down")
		return func() {
			s.In(s.edge(), "sh", "-c", "ip link set wan up; ip route replace default via 1.2.5.1")
		}
	}},
	{name: "the router was reset", short: true, want: []causes.Slug{"router-reset"}, alone: []causes.Slug{"site-dark"},
		make: func(s *troubled) func() {
			s.none("router")
			s.Restart() // which a reset does
			return func() { s.forwards("router", nil) }
		}},
	{name: "the router answers itself", want: []causes.Slug{"router-answers"}, make: func(s *troubled) func() {
		s.quietRouter(false)
		s.forwards("router", map[string]string{"page": ""})
		stop := s.stand("router", peer.Peer{Kind: probe.KindHTTPS, Name: "router"}, "0.0.0.0:8443")
		return func() { stop(); s.forwards("router", nil); s.quietRouter(true) }
	}},
	{name: "the modem has no forward", modem: true, short: true, want: []causes.Slug{"modem-forward-missing"},
		make: func(s *troubled) func() {
			s.forwards("front", map[string]string{"page": ""})
			return func() { s.forwards("front", nil) }
		}},
	{name: "the modem refuses", modem: true, short: true, want: []causes.Slug{"modem-refuses"}, make: func(s *troubled) func() {
		s.quietRouter(false)
		s.forwards("front", map[string]string{"page": ""})
		return func() { s.forwards("front", nil); s.quietRouter(true) }
	}},
	{name: "the modem passes nothing on", modem: true, want: []causes.Slug{"double-nat", "router-reset"}, alone: []causes.Slug{"site-dark"},
		make: func(s *troubled) func() {
			s.none("front")
			return func() { s.forwards("front", nil) }
		}},
	{name: "the provider translates, and passes nothing on", of: "shell", carrier: true, want: []causes.Slug{"carrier-nat"},
		make: func(s *troubled) func() {
			s.none("front")
			return func() { s.forwards("front", nil) }
		}},
	{name: "the provider lets nothing in", want: []causes.Slug{"inbound-blocked"}, alone: []causes.Slug{"site-dark"},
		make: func(s *troubled) func() {
			s.rule("near", "inkfault", "forward", "oifname wan ct state new drop")
			return func() { s.unrule("near", "inkfault") }
		}},
	{name: "the provider has no route to the site", of: "shell", want: []causes.Slug{"site-dark", "no-route"},
		make: func(s *troubled) func() {
			s.In("core", "ip", "route", "del", "1.2.5.0/24")
			return func() { s.In("core", "ip", "route", "add", "1.2.5.0/24", "via", "1.2.4.2") }
		}},
	{name: "another machine asked for the port", inside: true, public: true, want: []causes.Slug{"port-conflict"},
		make: func(s *troubled) func() {
			s.forwards("router", map[string]string{"page": ""})
			ctx := context.Background()
			at := netip.AddrPortFrom(netip.MustParseAddr(spaces.Router), natpmp.Port)
			require.NoError(s.t, natpmp.Map(ctx, s.Dial("desk"), at, "tcp", 8443, 8999, 10*time.Minute))
			return func() {
				require.NoError(s.t, natpmp.Unmap(ctx, s.Dial("desk"), at, "tcp", 8999))
				s.forwards("router", nil)
			}
		}},
	{name: "the site moved, and a stranger has its address", of: "shell", want: []causes.Slug{"moved-unannounced"},
		make: func(s *troubled) func() {
			edge := s.edge()
			s.In(edge, "ip", "link", "set", "wan", "down")
			s.Make("stranger")
			s.In("near", "ip", "link", "add", "name", "street", "type", "bridge")
			s.In("near", "sh", "-c", "ip addr flush dev wan; ip link set wan master street; ip addr add 1.2.5.1/24 dev street; ip "+
				"link set street up")
			s.Join("stranger wan "+s.WAN+"/24", "near stranger")
			s.In("near", "ip", "link", "set", "stranger", "master", "street")
			s.In("stranger", "ip", "route", "add", "default", "via", "1.2.5.1")
			stop := s.stand("stranger", peer.Peer{Kind: probe.KindSSH, Name: "somebody"}, "0.0.0.0:8022")
			return func() {
				stop()
				s.In("near", "sh", "-c", "ip link del stranger; ip link set wan nomaster; ip link del street; ip addr add 1.2.5.1/24 "+
					"dev wan")
				s.Run("ip", "netns", "del", s.Name("stranger"))
				s.In(edge, "sh", "-c", "ip link set wan up; ip route replace default via 1.2.5.1")
			}
		}},
	{name: "a server over UDP stopped", of: "names", want: []causes.Slug{"service-stopped"}, make: func(s *troubled) func() {
		s.stop("names")
		return func() { s.start("names") }
	}},
	{name: "no forward over UDP", of: "names", short: true, lent: true, want: []causes.Slug{"forward-missing"},
		make: func(s *troubled) func() {
			s.forwards("router", map[string]string{"names": ""})
			return func() { s.forwards("router", nil) }
		}},
	{name: "the device's firewall over UDP", of: "names", want: []causes.Slug{"device-firewall"},
		alone: []causes.Slug{"device-lan-only", "service-hung"}, make: func(s *troubled) func() {
			s.rule("desk", "inkfault", "input", "udp dport 8053 drop")
			return func() { s.unrule("desk", "inkfault") }
		}},
	{name: "a server over UDP hangs", of: "names", want: []causes.Slug{"service-hung", "device-firewall"},
		alone: []causes.Slug{"device-lan-only"}, make: func(s *troubled) func() { return s.freeze("names") }},
	{name: "a shell hangs", of: "shell", want: []causes.Slug{"service-hung"}, make: func(s *troubled) func() { return s.freeze("shell") }},
	{name: "a broker stopped", of: "stream", want: []causes.Slug{"service-stopped"}, make: func(s *troubled) func() {
		s.stop("stream")
		return func() { s.start("stream") }
	}},
	{name: "no forward, and the service stopped", want: []causes.Slug{"forward-missing", "service-stopped"},
		make: func(s *troubled) func() {
			s.forwards("router", map[string]string{"page": ""})
			s.stop("page")
			return func() { s.forwards("router", nil); s.start("page") }
		}},
	{name: "no forward, and the device is off", want: []causes.Slug{"forward-missing", "device-off"}, make: func(s *troubled) func() {
		s.forwards("router", map[string]string{"page": ""})
		s.In("recorder", "ip", "link", "set", "eth0", "down")
		return func() { s.forwards("router", nil); s.up("recorder") }
	}},
}

// up connects a device again: its addresses stay with it, its route does not.
func (s *troubled) up(space string) {
	s.In(space, "sh", "-c", "ip link set eth0 up; ip route replace default via 192.168.7.1")
}

// pairs are two faults at one time, of services that have nothing to do with each other.
var pairs = paired("the service stopped", "a shell hangs", "no forward over UDP", "a server over UDP stopped").
	and("no forward", "a shell hangs", "a server over UDP stopped").
	and("the device's firewall", "a server over UDP stopped", "a shell hangs").
	and("the device is off", "a server over UDP stopped", "a shell hangs").
	and("the provider drops the port early", "a shell hangs", "a server over UDP stopped").
	and("another key", "a server over UDP stopped", "no forward over UDP").
	and("the service hangs", "a server over UDP stopped", "no forward over UDP").
	and("the device has another address", "a shell hangs")

type pairing []trouble

func paired(one string, others ...string) pairing { return pairing(nil).and(one, others...) }

func (p pairing) and(one string, others ...string) pairing {
	for _, f := range troubles {
		if f.name == one {
			for _, other := range others {
				f.name, f.and, f.short, f.within = one+" + "+other, other, false, false
				p = append(p, f)
			}
		}
	}
	return p
}
