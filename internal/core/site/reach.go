package site

import (
	"fmt"
	"net/netip"
	"strings"
)

// Reach says over which way a service is reached from outside.
type Reach string

// The ways: a forward to the device in the router's translation (IPv4), a pinhole in the router's firewall to the device's own
// address (IPv6), or both.
const (
	ByForward Reach = "forward"
	ByPinhole Reach = "pinhole"
	ByBoth    Reach = "both"
)

// ParseReach accepts the words of the Reach constants; "" is ByForward. The error says which words there are.
func ParseReach(text string) (Reach, error) {
	switch r := Reach(strings.ToLower(strings.TrimSpace(text))); r {
	case "":
		return ByForward, nil
	case ByForward, ByPinhole, ByBoth:
		return r, nil
	}
	return "", fmt.Errorf("%q is unknown; it is forward (IPv4), pinhole (IPv6 at the device's own address) or both", text)
}

// Forwarded reports whether a service is reached by a forward.
func (s Service) Forwarded() bool { return s.Reach != ByPinhole }

// Pinholed reports whether a service is reached through a pinhole.
func (s Service) Pinholed() bool { return s.Reach == ByPinhole || s.Reach == ByBoth }

// InternalTo is the last port on the device.
func (s Service) InternalTo() int { return s.InternalFrom + s.ExternalTo - s.ExternalFrom }

// PinholeAt is the address of a device at which it is reached over IPv6: its own, where that is in the /64 of the link's address. An
// address elsewhere is not proven to be the site's, and nothing is probed there.
func PinholeAt(d Device, l Link) netip.Addr {
	if !d.IPv6.IsValid() || !l.IPv6.IsValid() || netip.PrefixFrom(l.IPv6, 64).Masked() != netip.PrefixFrom(d.IPv6, 64).Masked() {
		return netip.Addr{}
	}
	return d.IPv6
}
