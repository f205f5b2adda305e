package site

import (
	"fmt"
	"net/netip"
	"strings"
)

// Range is a range of addresses, both ends included. As text it is FROM-TO.
type Range struct{ from, to netip.Addr }

// RangeOf makes a range of its ends; the zero Range of zero ends.
func RangeOf(from, to netip.Addr) Range { return Range{from, to} }

// Ends returns both ends.
func (r Range) Ends() (from, to netip.Addr) { return r.from, r.to }

// ParseRange reads FROM-TO; "" is the zero Range. The error says what a range looks like.
func ParseRange(text string) (Range, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return Range{}, nil
	}
	from, to, _ := strings.Cut(text, "-")
	a, err1 := netip.ParseAddr(strings.TrimSpace(from))
	b, err2 := netip.ParseAddr(strings.TrimSpace(to))
	if err1 != nil || err2 != nil || a.Is4() != b.Is4() || b.Less(a) {
		return Range{}, fmt.Errorf("%q is not a range of addresses; give one such as 192.168.7.100-192.168.7.199", text)
	}
	return Range{a, b}, nil
}

// Contains reports whether an address is in the range.
func (r Range) Contains(a netip.Addr) bool {
	return r.from.IsValid() && a.IsValid() && a.Is4() == r.from.Is4() && !a.Less(r.from) && !r.to.Less(a)
}

// String writes FROM-TO, "" for the zero Range.
func (r Range) String() string {
	if !r.from.IsValid() {
		return ""
	}
	return r.from.String() + "-" + r.to.String()
}
