// Package demo runs the whole of Ink Post on one machine: a private PostgreSQL, the service, a simulated world of ten sites
// and an agent behind each simulated router.
package demo

import (
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab"
)

// place is a site of the made-up Kettle Isles.
type place struct {
	code, name, note string
	links            []connection
	hostnames        []string // labels below the zone; the first follows the preferred link
	devices          []machine
}

type connection struct {
	label, provider string
	static          bool
	first           netip.Addr // the first address of its history
	told            netip.Addr // what its router says of its WAN address, where that is another one
	nightly         bool       // its provider renumbers it each night
}

func nightly(c connection) connection {
	c.nightly = true
	return c
}

type machine struct {
	name, mac string
	reserved  bool
	services  []exposed
}

type exposed struct {
	name               string
	external, internal uint16
	kind               probe.Kind
	over               probe.Transport // tcp if empty
	closed             bool            // must stay closed
	expires            int             // days until its certificate expires; a year if 0
	unpacked           bool            // its device stands there, and is not on record yet
}

const zone = "isles.saltmarsh.example"

// The remote zone, its primary's address in the lab, and the key that it knows us by.
const (
	remoteZone = "quay.saltmarsh.example"
	primaryAt  = "127.120.0.53:8453"
	// The zone above both, whose server says who serves them.
	parentZone = "saltmarsh.example"
	parentAt   = "127.120.0.1:8453"
	zonePort   = "8453"
	pushKey    = "isles-to-quay.saltmarsh.example"
	pushSecret = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
)

func places() []place {
	cable := func(n byte) connection {
		return connection{label: "main", provider: "Kettle Cable", first: netip.AddrFrom4([4]byte{127, 101, n, 20 + n})}
	}
	fibre := func(n byte) connection {
		return connection{label: "main", provider: "Islenet Fibre", first: netip.AddrFrom4([4]byte{127, 102, n, 40 + n})}
	}
	mobile := func(label string, n byte) connection {
		return connection{label: label, provider: "Gannet Mobile", first: netip.AddrFrom4([4]byte{127, 103, n, 60 + n})}
	}
	behindModem, shared, ferry := fibre(3), mobile("backup", 2), mobile("main", 11)
	behindModem.told, shared.told, ferry.told = netip.MustParseAddr("192.168.1.23"), netip.MustParseAddr("100.64.17.9"),
		netip.MustParseAddr("100.64.17.11")
	fixed := fibre(1)
	fixed.static = true
	const (
		web, page, shell, stream, raw = probe.KindHTTPS, probe.KindHTTP, probe.KindSSH, probe.KindRTSP, probe.KindTCP
	)
	return []place{
		{"BAK-02", "Bakery at the Slipway", "Second link over the mobile network; the oven controller needs it.",
			[]connection{cable(2), shared}, []string{"bak-02", "bakery"},
			[]machine{{"oven", "02:00:5e:02:00:01", true,
				[]exposed{{name: "oven-page", external: 8443, internal: 443, kind: web},
					{name: "oven-shell", external: 8022, internal: 22, kind: shell}}}}},
		{"BIR-08", "Bird Observatory", "The hide's recorder has no reservation.",
			[]connection{mobile("main", 8)}, []string{"bir-08"},
			[]machine{{"hide-recorder", "02:00:5e:08:00:01", false,
				[]exposed{{name: "stream", external: 8554, internal: 554, kind: stream},
					{name: "recorder-page", external: 8080, internal: 80, kind: page},
					{name: "beacon", external: 7100, internal: 7100, kind: probe.KindUDP, over: probe.UDP}}}}},
		{"BOA-09", "Boatyard", "Recorder with several ports, the slip cameras behind it.",
			[]connection{fibre(9)}, []string{"boa-09"},
			[]machine{{"recorder", "02:00:5e:09:00:01", true,
				[]exposed{{name: "recorder-page", external: 8443, internal: 443, kind: web},
					{name: "playback", external: 8554, internal: 554, kind: stream},
					{name: "recorder-data", external: 9000, internal: 9000, kind: raw}}},
				{"gate", "02:00:5e:09:00:02", true, []exposed{{name: "gate-shell", external: 8022, internal: 22, kind: shell}}}}},
		{"CLI-05", "Village Clinic", "Appointments desk; the router's page must never be open.",
			[]connection{fibre(5)}, []string{"cli-05"},
			[]machine{{"desk", "02:00:5e:05:00:01", true,
				[]exposed{{name: "appointments", external: 8443, internal: 443, kind: web, expires: 9},
					{name: "desk-screen", external: 3389, internal: 3389, kind: probe.KindRDP}}},
				{"router", "02:00:5e:05:00:fe", true,
					[]exposed{{name: "router-page", external: 8081, internal: 80, kind: page, closed: true}}}}},
		{"DIS-01", "Distillery", "Static address, set by hand.",
			[]connection{fixed}, []string{"dis-01", "still"},
			[]machine{{"still", "02:00:5e:01:00:01", true,
				[]exposed{{name: "still-page", external: 8443, internal: 443, kind: web},
					{name: "still-shell", external: 8022, internal: 22, kind: shell},
					{name: "sensors", external: 1883, internal: 1883, kind: probe.KindMQTT}}}}},
		{"FER-11", "Ferry Ticket Kiosk", "On the mobile network, whose provider shares addresses.",
			[]connection{ferry}, []string{"fer-11"},
			[]machine{{"kiosk", "02:00:5e:11:00:01", true, []exposed{{name: "kiosk-shell", external: 8022, internal: 22, kind: shell}}}}},
		{"KET-07", "Lighthouse Museum", "Key at the keeper's cottage.",
			[]connection{cable(7)}, []string{"ket-07", "lighthouse"},
			[]machine{{"recorder", "02:00:5e:07:00:01", true,
				[]exposed{{name: "recorder-page", external: 8443, internal: 443, kind: web},
					{name: "playback", external: 8554, internal: 554, kind: stream}}},
				{"ticket-desk", "02:00:5e:07:00:02", true, []exposed{{name: "desk-shell", external: 8022, internal: 22, kind: shell}}},
				{"door-phone", "02:00:5e:07:00:03", false,
					[]exposed{{name: "door-view", external: 8090, internal: 80, kind: page, unpacked: true}}}}},
		{"OYS-03", "Oyster Hatchery", "The provider's modem stands in front of our router.",
			[]connection{behindModem}, []string{"oys-03"},
			[]machine{{"tanks", "02:00:5e:03:00:01", true,
				[]exposed{{name: "tank-page", external: 8443, internal: 443, kind: web},
					{name: "tank-shell", external: 8022, internal: 22, kind: shell}}}}},
		{"RAD-06", "Radio Club", "Club server in the attic; it sleeps when nobody is there.",
			[]connection{cable(6)}, []string{"rad-06"},
			[]machine{{"attic", "02:00:5e:06:00:01", true,
				[]exposed{{name: "club-page", external: 8080, internal: 80, kind: page},
					{name: "club-shell", external: 8022, internal: 22, kind: shell},
					{name: "patch", external: 5060, internal: 5060, kind: probe.KindSIP, over: probe.UDP}}}}},
		{"SCH-04", "School", "Server room next to the kitchen; the VPN gateway stands beside the switch.",
			[]connection{nightly(cable(4))}, []string{"sch-04"},
			[]machine{{"files", "02:00:5e:04:00:01", true, []exposed{{name: "files-page", external: 8443, internal: 443, kind: web}}},
				{"gateway", "02:00:5e:04:00:02", true,
					[]exposed{{name: "vpn", external: 51820, internal: 51820, kind: probe.KindWireGuard, over: probe.UDP},
						{name: "old-vpn", external: 1194, internal: 1194, kind: probe.KindOpenVPN, over: probe.UDP}}},
				{"switch", "02:00:5e:04:00:fd", true,
					[]exposed{{name: "switch-page", external: 8082, internal: 80, kind: page, closed: true}}}}},
	}
}

// lan returns the address of the n-th device of the i-th place: a loopback address that stands for one on its LAN.
func lan(i, n int) netip.Addr {
	return netip.AddrFrom4([4]byte{127, 201, byte(i + 1), byte(20 + n)})
}

// gatewayOf returns the LAN side of the router of the n-th link of the i-th place.
func gatewayOf(i, n int) netip.Addr {
	return netip.AddrFrom4([4]byte{127, 202, byte(i + 1), byte(1 + n)})
}

// inner is the port that a simulated device really listens on: low ports need rights that the demo does without.
func inner(port uint16) uint16 {
	if port < 1024 {
		return port + 10000
	}
	return port
}

// specs returns the lab its sites. Links get the addresses that the record has for them.
func specs(list []place, recorded map[string]netip.Addr) []lab.SiteSpec {
	var out []lab.SiteSpec
	for i, p := range list {
		s := lab.SiteSpec{Code: p.code}
		for n, l := range p.links {
			wish := recorded[p.code+" "+l.label]
			if !wish.IsValid() {
				wish = newest(p, l)
			}
			s.Links = append(s.Links, lab.LinkSpec{Label: l.label, Provider: l.provider, Address: wish, Gateway: gatewayOf(i, n),
				Told: l.told})
		}
		for n, d := range p.devices {
			for _, e := range d.services {
				var until time.Time
				if e.expires > 0 {
					until = time.Now().AddDate(0, 0, e.expires)
				}
				s.Services = append(s.Services, lab.ServiceSpec{Until: until, Host: p.hostnames[0] + "." + zone, Name: e.name,
					Device: d.name, LAN: netip.AddrPortFrom(lan(i, n), inner(e.internal)),
					External: e.external, Kind: e.kind, Transport: e.over, Forwarded: !e.closed && !e.unpacked})
			}
		}
		out = append(out, s)
	}
	return out
}

func port(n uint16) string { return fmt.Sprint(n) }
