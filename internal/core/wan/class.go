// Package wan computes with the public (WAN) addresses of links: what class an address is in, whether it may stand
// for a site, and what an announcement changes.
package wan

import (
	"fmt"
	"net/netip"
	"slices"
)

// Class says what an address is used for, by the special-purpose registries of RFC 6890 and its updates.
type Class string

// The classes. Only ClassPublic can be reached from anywhere.
const (
	ClassPublic        Class = "public"
	ClassPrivate       Class = "private"       // RFC 1918, RFC 4193
	ClassShared        Class = "shared"        // RFC 6598, carrier-grade NAT
	ClassLoopback      Class = "loopback"      // RFC 1122, RFC 4291
	ClassLinkLocal     Class = "link-local"    // RFC 3927, RFC 4291
	ClassDocumentation Class = "documentation" // RFC 5737, RFC 3849, RFC 9637
	ClassMulticast     Class = "multicast"     // RFC 5771, RFC 4291
	ClassReserved      Class = "reserved"      // RFC 1112, RFC 2544, RFC 6890, RFC 6666
	ClassUnspecified   Class = "unspecified"   // 0.0.0.0/8, ::
	ClassInvalid       Class = "invalid"       // the zero Addr
)

var special = []struct {
	prefix netip.Prefix
	class  Class
}{
	{netip.MustParsePrefix("0.0.0.0/8"), ClassUnspecified},
	{netip.MustParsePrefix("10.0.0.0/8"), ClassPrivate},
	{netip.MustParsePrefix("100.64.0.0/10"), ClassShared},
	{netip.MustParsePrefix("127.0.0.0/8"), ClassLoopback},
	{netip.MustParsePrefix("169.254.0.0/16"), ClassLinkLocal},
	{netip.MustParsePrefix("172.16.0.0/12"), ClassPrivate},
	{netip.MustParsePrefix("192.0.0.0/24"), ClassReserved},
	{netip.MustParsePrefix("192.0.2.0/24"), ClassDocumentation},
	{netip.MustParsePrefix("192.88.99.0/24"), ClassReserved},
	{netip.MustParsePrefix("192.168.0.0/16"), ClassPrivate},
	{netip.MustParsePrefix("198.18.0.0/15"), ClassReserved},
	{netip.MustParsePrefix("198.51.100.0/24"), ClassDocumentation},
	{netip.MustParsePrefix("203.0.113.0/24"), ClassDocumentation},
	{netip.MustParsePrefix("224.0.0.0/4"), ClassMulticast},
	{netip.MustParsePrefix("240.0.0.0/4"), ClassReserved},
	{netip.MustParsePrefix("::/128"), ClassUnspecified},
	{netip.MustParsePrefix("::1/128"), ClassLoopback},
	{netip.MustParsePrefix("64:ff9b:1::/48"), ClassPrivate},
	{netip.MustParsePrefix("100::/64"), ClassReserved},
	{netip.MustParsePrefix("2001:db8::/32"), ClassDocumentation},
	{netip.MustParsePrefix("2001::/23"), ClassReserved}, // RFC 2928: Teredo, benchmarking, ORCHID and others
	{netip.MustParsePrefix("2002::/16"), ClassReserved}, // RFC 3056, 6to4
	{netip.MustParsePrefix("3fff::/20"), ClassDocumentation},
	{netip.MustParsePrefix("fc00::/7"), ClassPrivate},
	{netip.MustParsePrefix("fe80::/10"), ClassLinkLocal},
	{netip.MustParsePrefix("ff00::/8"), ClassMulticast},
}

// ClassOf returns the class of a. An IPv4-mapped IPv6 address has the class of its IPv4 address.
func ClassOf(a netip.Addr) Class {
	if !a.IsValid() {
		return ClassInvalid
	}
	a = a.Unmap().WithZone("")
	for _, s := range special {
		if s.prefix.Contains(a) {
			return s.class
		}
	}
	if a.Is6() && !globalUnicast.Contains(a) {
		return ClassReserved
	}
	return ClassPublic
}

// globalUnicast is all of IPv6 that is given out to networks (RFC 3513 section 4, IANA's registry of the address space).
var globalUnicast = netip.MustParsePrefix("2000::/3")

// Policy says which addresses may stand for a site. The zero Policy takes public addresses only.
type Policy struct {
	// StandIns count as public although their class says otherwise. Only the lab sets them.
	StandIns []netip.Prefix
	// LANs count as addresses of sites' LANs although their class says otherwise. Only the lab sets them.
	LANs []netip.Prefix
}

// metadata are addresses at which hosting providers tell a machine about itself, its secrets among them: no device of a site.
var metadata = []netip.Addr{netip.MustParseAddr("169.254.169.254"), netip.MustParseAddr("fd00:ec2::254")}

// OnLAN reports whether an address can be a device's on a site's LAN: a private (RFC 1918, RFC 4193) or link-local one (RFC 3927,
// RFC 4291), and not one at which a hosting provider tells machines about themselves.
func OnLAN(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	c := ClassOf(a)
	return (c == ClassPrivate || c == ClassLinkLocal) && !slices.Contains(metadata, a)
}

// OnLAN is OnLAN of an address, with the lab's LANs among them.
func (p Policy) OnLAN(a netip.Addr) bool {
	return OnLAN(a) || slices.ContainsFunc(p.LANs, func(lan netip.Prefix) bool { return lan.Contains(a.Unmap()) })
}

// Class is ClassOf, with the stand-ins counted as public.
func (p Policy) Class(a netip.Addr) Class {
	if a.IsValid() {
		for _, s := range p.StandIns {
			if s.Contains(a.Unmap()) {
				return ClassPublic
			}
		}
	}
	return ClassOf(a)
}

// ErrNotPublic reports an address that cannot be reached from outside, offered as a link's public address.
type ErrNotPublic struct {
	Addr  netip.Addr
	Class Class
}

const noAddress = "no address given; give an IPv4 address such as 198.51.100.7 or an IPv6 address such as 2001:db8::7"

func (e ErrNotPublic) Error() string {
	if e.Class == ClassInvalid {
		return noAddress
	}
	next := "give the address that the provider assigned to the site"
	switch e.Class {
	case ClassPrivate:
		next = "another router is in front of this one: give the front device's public address"
	case ClassShared:
		next = "the provider shares one public address among customers (RFC 6598): ask it for a public address"
	}
	return fmt.Sprintf("%s is a %s address and cannot be reached from outside; %s", e.Addr, e.Class, next)
}

// Check returns nil if a may stand for a site, else an ErrNotPublic.
func (p Policy) Check(a netip.Addr) error {
	if c := p.Class(a); c != ClassPublic {
		return ErrNotPublic{Addr: a, Class: c}
	}
	return nil
}
