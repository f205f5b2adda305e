package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// places are what the texts of causes speak of.
type places = map[string]string

// ofSite are the places of a site.
func (e Evidence) ofSite() places { return places{"site": e.Site.Code} }

// ofLink are the places of a link.
func (e Evidence) ofLink(l LinkEvidence) places {
	p := e.ofSite()
	p["link"], p["address"], p["provider"] = l.Label, l.Addresses().String(), provider(l.Link)
	p["announcer"], p["remedies"] = announcer(l), strings.Join(l.NAT.Remedies, " ")
	if !l.Addresses().Known() {
		p["address"] = ""
	}
	return p
}

// ofDevice are the places of a device, as an agent saw it.
func (e Evidence) ofDevice(name string) places {
	d, _ := e.device(name)
	p := e.ofSite()
	p["device"], p["mac"] = d.Name, d.MAC
	if d.Address.IsValid() {
		p["at"] = d.Address.String()
	}
	if d.IPv6.IsValid() {
		p["v6"] = d.IPv6.String()
	}
	seen, ok := e.inside(name)
	if !ok {
		return p
	}
	p["found"] = seen.Found
	if taken(d, seen) {
		p["holder"] = seen.MAC
	}
	if from, until, asleep := seen.Hours.Asleep(e.Now); asleep {
		p["hours"] = fmt.Sprintf(" (%02d:00 to %02d:00 UTC)", from, until)
	}
	return p
}

// ofServices are the places of failing services on a link; what is said of one is said of the first.
func (e Evidence) ofServices(l LinkEvidence, list []ServiceEvidence) places {
	p := e.ofLink(l)
	if len(list) == 0 {
		return p
	}
	s := list[0]
	for k, v := range e.ofDevice(s.Device) {
		p[k] = v
	}
	var ports, inner []string
	for _, x := range list {
		if x.Device == s.Device {
			ports, inner = append(ports, x.port()), append(inner, x.inside())
		}
	}
	p["service"], p["port"], p["inside"] = s.Name, strings.Join(ports, ", "), strings.Join(inner, ", ")
	p["kind"], p["transport"] = string(s.Kind), s.Transport.String()
	p["external"] = "external " + site.Ports(s.ExternalFrom, s.ExternalTo)
	d, _ := e.device(s.Device)
	p["forward"] = fmt.Sprintf("%s, external %s, to %s, internal %s", s.Transport, site.Ports(s.ExternalFrom, s.ExternalTo), d.Address,
		site.Ports(s.InternalFrom, s.InternalTo()))
	for _, w := range s.Ways {
		if at, err := netip.ParseAddrPort(w.Target); err == nil && w.Reach == site.ByPinhole {
			p["v6"] = at.Addr().String()
		}
	}
	p["devices"] = strings.Join(devices(list), ", ")
	if owner := e.ownerOf(s); owner != "" {
		p["sibling"] = ": it shows the fingerprint of " + owner
	}
	var reached, missed []string
	for _, x := range list {
		for _, v := range x.counting() {
			if v.Outcome.Good() && !slices.Contains(reached, v.Vantage) {
				reached = append(reached, v.Vantage)
			}
			if !v.Outcome.Good() && !slices.Contains(missed, v.Vantage) {
				missed = append(missed, v.Vantage)
			}
		}
	}
	if at := e.holder(l, s); at != "" && p["holder"] == "" {
		p["holder"] = at
	}
	p["reached"], p["missed"] = strings.Join(reached, ", "), strings.Join(missed, ", ")
	return p
}

// ownerOf names the device or service of the site whose pinned fingerprint a stranger shows.
func (e Evidence) ownerOf(s ServiceEvidence) string {
	if s.Outcome != probe.Stranger || s.Fingerprint == "" {
		return ""
	}
	for _, x := range e.Services {
		if x.Service.Fingerprint == s.Fingerprint && x.Name != s.Name {
			return x.Device + ", " + x.Name
		}
	}
	return ""
}

func (s ServiceEvidence) port() string {
	return fmt.Sprintf("%s port %s", strings.ToUpper(string(s.Transport)), site.Ports(s.ExternalFrom, s.ExternalTo))
}

// inside is the port at the device.
func (s ServiceEvidence) inside() string {
	return fmt.Sprintf("%s port %s", strings.ToUpper(string(s.Transport)), site.Ports(s.InternalFrom, s.InternalTo()))
}

func devices(list []ServiceEvidence) (out []string) {
	for _, s := range list {
		if !slices.Contains(out, s.Device) {
			out = append(out, s.Device)
		}
	}
	return out
}

func serviceNames(list []ServiceEvidence) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = s.Name
	}
	return out
}

func provider(l site.Link) string { return orElse(l.Provider, "the provider") }

func announcer(l LinkEvidence) string {
	if l.Agent || l.Rhythm == 0 {
		return "the agent"
	}
	return "the router"
}

func orElse(s, instead string) string {
	if s == "" {
		return instead
	}
	return s
}
