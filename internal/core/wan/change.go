package wan

import (
	"fmt"
	"net/netip"
	"time"
)

// Source is a way of learning the WAN address.
type Source string

// The sources.
const (
	SourceObserved  Source = "observed"  // what the server saw as the sender of the announcement
	SourceSTUN      Source = "stun"      // RFC 8489
	SourceGateway   Source = "gateway"   // PCP, NAT-PMP, IGD
	SourceInterface Source = "interface" // the address of a named interface
	SourceFixed     Source = "fixed"     // an operator typed it
)

// ParseSource accepts the words of the Source constants. The error lists them.
func ParseSource(s string) (Source, error) {
	switch src := Source(s); src {
	case SourceObserved, SourceSTUN, SourceGateway, SourceInterface, SourceFixed:
		return src, nil
	}
	return "", fmt.Errorf("source %q is unknown; it is one of observed, stun, gateway, interface, fixed", s)
}

// Pair holds a link's addresses of both families. The zero Addr stands for "none known".
type Pair struct {
	IPv4, IPv6 netip.Addr
}

// PairOf places a in its family. An IPv4-mapped address is an IPv4 address.
func PairOf(a netip.Addr) Pair {
	a = a.Unmap()
	if a.Is4() {
		return Pair{IPv4: a}
	}
	return Pair{IPv6: a}
}

// Known reports whether either family has an address.
func (p Pair) Known() bool { return p.IPv4.IsValid() || p.IPv6.IsValid() }

// String writes the addresses that are known, IPv4 first, with a space between; "-" if there is none.
func (p Pair) String() string {
	switch {
	case p.IPv4.IsValid() && p.IPv6.IsValid():
		return p.IPv4.String() + " " + p.IPv6.String()
	case p.IPv4.IsValid():
		return p.IPv4.String()
	case p.IPv6.IsValid():
		return p.IPv6.String()
	}
	return "-"
}

// Announcement says what a link's address is now. A family left zero says nothing about that family.
type Announcement struct {
	Addresses Pair
	Source    Source
	// NoIPv4 and NoIPv6 say that the link no longer has an address of that family.
	NoIPv4, NoIPv6 bool
	// Noticed is when the sender first saw the address, not after the server received the announcement.
	Noticed time.Time
}

// Decision is what an announcement changes.
type Decision struct {
	Changed  bool
	Old, New Pair
}

// Decide compares an announcement with the link's current addresses. A family that the announcement does not mention stays as it was. It
// returns ErrNotPublic, and changes nothing, where any offered address cannot stand for a site.
func Decide(current Pair, a Announcement, policy Policy) (Decision, error) {
	if !a.Addresses.Known() && !a.NoIPv4 && !a.NoIPv6 {
		return Decision{}, ErrNotPublic{Class: ClassInvalid}
	}
	next := current
	for _, offered := range []netip.Addr{a.Addresses.IPv4, a.Addresses.IPv6} {
		if !offered.IsValid() {
			continue
		}
		if err := policy.Check(offered); err != nil {
			return Decision{}, err
		}
	}
	if a.Addresses.IPv4.IsValid() || a.NoIPv4 {
		next.IPv4 = a.Addresses.IPv4
	}
	if a.Addresses.IPv6.IsValid() || a.NoIPv6 {
		next.IPv6 = a.Addresses.IPv6
	}
	if current.Known() && !next.Known() {
		return Decision{}, ErrNotPublic{Class: ClassInvalid} // a link keeps its address until it has another
	}
	return Decision{Changed: next != current, Old: current, New: next}, nil
}
