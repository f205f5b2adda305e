package record

import (
	"fmt"
	"net/netip"
	"slices"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// Target returns the address of a link that probes go to: IPv4 if there is one.
func Target(l site.Link) netip.Addr {
	if l.IPv4.IsValid() {
		return l.IPv4
	}
	return l.IPv6
}

// PinholeOf is where a service is reached over IPv6; zero if it is not, or if that is not known.
func (p Site) PinholeOf(s site.Service, l site.Link) netip.Addr {
	if !s.Pinholed() {
		return netip.Addr{}
	}
	for _, d := range p.Devices {
		if d.ID == s.DeviceID {
			return site.PinholeAt(d, l)
		}
	}
	return netip.Addr{}
}

// TargetOf is the address at which a service is probed first: over IPv4 that of its link, or else the device's own.
func (p Site) TargetOf(s site.Service, l site.Link) netip.Addr {
	if s.Forwarded() {
		return Target(l)
	}
	return p.PinholeOf(s, l)
}

// Ports returns the first and last port of a service at that address.
func Ports(s site.Service) [2]int {
	if s.Forwarded() {
		return [2]int{s.ExternalFrom, s.ExternalTo}
	}
	return [2]int{s.InternalFrom, s.InternalTo()}
}

// SecondTargetOf is the second address, of a service that is reached over both ways.
func (p Site) SecondTargetOf(s site.Service, l site.Link) netip.AddrPort {
	if at := p.PinholeOf(s, l); s.Reach == site.ByBoth && at.IsValid() {
		return netip.AddrPortFrom(at, uint16(s.InternalFrom))
	}
	return netip.AddrPort{}
}

// HostnameOn picks a hostname that leads to a link.
func (p Site) HostnameOn(l site.Link) string {
	for _, h := range p.Hostnames {
		if p.AnswerOf(h) == l.Addresses() {
			return string(h.Name)
		}
	}
	return ""
}

// OwnPorts lists what a redirect of a site's service may lead to: the site's own names and address, at the ports of its
// services.
func (p Site) OwnPorts(l site.Link) map[string]bool {
	out := map[string]bool{}
	hosts := []string{Target(l).String()}
	for _, h := range p.Hostnames {
		hosts = append(hosts, string(h.Name))
		for _, label := range h.Extras {
			hosts = append(hosts, label+"."+string(h.Name))
		}
	}
	for _, s := range p.Services {
		if at, ok := p.Followed(s.LinkID); !ok || at.ID != l.ID || !s.Transport.Has(probe.TCP) {
			continue
		}
		for port := s.ExternalFrom; port <= s.ExternalTo; port++ {
			for _, host := range hosts {
				out[fmt.Sprintf("%s:%d", host, port)] = true
			}
		}
	}
	return out
}

// OfAnother reports whether a fingerprint is pinned for another device of the site: then it is that one that answers.
func (p Site) OfAnother(deviceID int64, fingerprint string) bool {
	return slices.ContainsFunc(p.Services, func(o site.Service) bool {
		return o.DeviceID != deviceID && probe.SamePrint(o.Fingerprint, fingerprint)
	})
}
