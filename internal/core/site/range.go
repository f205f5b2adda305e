package site

import (
	"fmt"
	"net/netip"
	"strings"
)

// Range is a range of addresses, both ends included. As text it is FROM-TO.
type Range struct{ From, To netip.Addr }

// ParseRange reads FROM-TO; "" is the zero Range.
func ParseRange(text string) (Range, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return Range{}, nil
	}
	from, to, _ := strings.Cut(text, "-")
	a, err1 := netip.ParseAddr(strings.TrimSpace(from))
	b, err2 := netip.ParseAddr(strings.TrimSpace(to))
	if err1 != nil || err2 != nil || a.Is4() != b.Is4() || b.Less(a) {
		return Range{}, fmt.Errorf("%q is no range of addresses; give one such as 192.168.7.100-192.168.7.199", text)
	}
	return Range{a, b}, nil
}

// Contains says whether an address is in the range.
func (r Range) Contains(a netip.Addr) bool {
	return r.From.IsValid() && a.IsValid() && a.Is4() == r.From.Is4() && !a.Less(r.From) && !r.To.Less(a)
}

// String writes FROM-TO, "" for the zero Range.
func (r Range) String() string {
	if !r.From.IsValid() {
		return ""
	}
	return r.From.String() + "-" + r.To.String()
}

// MarshalText implements encoding.TextMarshaler.
func (r Range) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Range) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRange(string(text))
	return err
}
