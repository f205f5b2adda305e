package site

import (
	"fmt"
	"net/netip"
	"strings"
)

// ParseAddress reads an address that a person typed; "" is the zero Addr. A zone ("%eth0") is refused: it means nothing
// outside the machine it was typed on.
func ParseAddress(field, s string) (netip.Addr, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return netip.Addr{}, nil
	}
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, Flaws{{Field: field, Detail: fmt.Sprintf("%q is not an IP address; give one such as 192.168.7.20 or "+
			"2001:db8::7", s)}}
	}
	return a.Unmap(), nil
}
