package guest_test

import (
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
)

// trouble is one kind of fault: how it is made and mended, and what is right to say of it.
type trouble struct {
	name  string
	of    string // service that it is looked at; page if empty
	modem bool   // it takes a modem in front of the router
	short bool   // it is made in every test run
	want  []causes.Slug
	alone []causes.Slug // what is right to say, too, where no agent looks from inside
	make  func(s *troubled) (mend func())
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
	{name: "no forward", short: true, want: []causes.Slug{"forward-missing"}, make: func(s *troubled) func() {
		s.forwards("router", map[string]string{"page": ""})
		return func() { s.forwards("router", nil) }
	}},
	{name: "the router refuses", short: true, want: []causes.Slug{"router-refuses"}, make: func(s *troubled) func() {
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
			s.rule("router", "inkquiet", "input", "iifname wan tcp dport 8000-9000 drop")
			s.forwards("router", nil)
		}
	}},
	{name: "the provider drops the port early", short: true, want: []causes.Slug{"port-blocked"}, make: func(s *troubled) func() {
		s.rule("core", "inkfault", "forward", "tcp dport 8443 drop")
		return func() { s.unrule("core", "inkfault") }
	}},
	{name: "the provider drops the port late", want: []causes.Slug{"port-blocked"}, make: func(s *troubled) func() {
		s.rule("near", "inkfault", "forward", "tcp dport 8443 drop")
		return func() { s.unrule("near", "inkfault") }
	}},
	{name: "the provider prohibits the port", want: []causes.Slug{"port-blocked"}, make: func(s *troubled) func() {
		s.rule("near", "inkfault", "forward", "tcp dport 8443 reject with icmpx admin-prohibited")
		return func() { s.unrule("near", "inkfault") }
	}},
	{name: "the device's firewall", short: true, want: []causes.Slug{"device-firewall"}, alone: []causes.Slug{"device-lan-only"},
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
	{name: "the device is off", short: true, want: []causes.Slug{"device-off"}, make: func(s *troubled) func() {
		s.In("recorder", "ip", "link", "set", "eth0", "down")
		return func() { s.up("recorder") }
	}},
	{name: "the service stopped", short: true, want: []causes.Slug{"service-stopped"}, make: func(s *troubled) func() {
		s.stop("page")
		return func() { s.start("page", stood["page"].who) }
	}},
	{name: "the service hangs", want: []causes.Slug{"service-hung"}, make: func(s *troubled) func() {
		s.stop("page")
		stop := s.hang("recorder", 8443)
		return func() { stop(); s.start("page", stood["page"].who) }
	}},
	{name: "another key", want: []causes.Slug{"service-changed"}, alone: []causes.Slug{"forward-astray"}, make: func(s *troubled) func() {
		s.stop("page")
		s.start("page", peer.Peer{Kind: probe.KindHTTPS, Name: "another page"})
		return func() { s.stop("page"); s.start("page", stood["page"].who) }
	}},
	{name: "another protocol", want: []causes.Slug{"other-protocol"}, make: func(s *troubled) func() {
		s.stop("page")
		s.start("page", peer.Peer{Kind: probe.KindSSH, Name: "a shell"})
		return func() { s.stop("page"); s.start("page", stood["page"].who) }
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
			s.forwards("router", map[string]string{"page": "", "stream": "", "shell": ""})
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
			s.forwards("front", map[string]string{"page": "", "stream": "", "shell": ""})
			return func() { s.forwards("front", nil) }
		}},
	{name: "no forward, and the service stopped", want: []causes.Slug{"forward-missing", "service-stopped"},
		make: func(s *troubled) func() {
			s.forwards("router", map[string]string{"page": ""})
			s.stop("page")
			return func() { s.forwards("router", nil); s.start("page", stood["page"].who) }
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
