package wan

import (
	"net/netip"
	"time"
)

// Lived is an IPv6 address of a device, and when it was first seen.
type Lived struct {
	Address netip.Addr
	First   time.Time
}

// StableIPv6 picks the address by which a device is known. The one that it is known by already stays as long as the device has it; a device
// also has addresses that change by the day (RFC 8981). After that, the one derived from its MAC (RFC 4291 appendix A), and then the one
// that has been seen for longest. The zero Addr stands for none.
func StableIPv6(list []Lived, mac [6]byte, known netip.Addr) netip.Addr {
	var best Lived
	for _, l := range list {
		if l.Address == known {
			return known
		}
		switch mine, bests := IsEUI64(l.Address, mac), best.Address.IsValid() && IsEUI64(best.Address, mac); {
		case !best.Address.IsValid(), mine && !bests:
			best = l
		case mine != bests:
		case l.First.Before(best.First), l.First.Equal(best.First) && l.Address.Less(best.Address):
			best = l
		}
	}
	return best.Address
}

// EUI64 is the address in a /64 that is derived from a MAC (RFC 4291 appendix A).
func EUI64(prefix netip.Prefix, mac [6]byte) netip.Addr {
	a := prefix.Addr().As16()
	copy(a[8:], []byte{mac[0] ^ 2, mac[1], mac[2], 0xff, 0xfe, mac[3], mac[4], mac[5]})
	return netip.AddrFrom16(a)
}

// IsEUI64 reports whether an address is derived from a MAC.
func IsEUI64(a netip.Addr, mac [6]byte) bool {
	return a.Is6() && !a.Is4In6() && EUI64(netip.PrefixFrom(a, 64), mac) == a.WithZone("")
}
