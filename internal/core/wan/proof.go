package wan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Proof is what can vouch for an announced address besides its sender: a stolen key must neither move names to a third party nor aim probes
// at one.
type Proof struct {
	// Own are the addresses at which the server itself saw the link: that of the connection which the announcement came over, and
	// those of other connections that were made with a key of the link a moment ago.
	Own []netip.Addr
	// Allowed are the prefixes in which a person lets the key announce addresses.
	Allowed []netip.Prefix
}

// ErrUnproven reports an announced address that nobody but its sender vouches for.
type ErrUnproven struct {
	Addr netip.Addr
	Own  []netip.Addr
}

func (e ErrUnproven) Error() string {
	var own []string
	for _, a := range e.Own {
		own = append(own, a.String())
	}
	from := "an address that is not known"
	if len(own) > 0 {
		from = strings.Join(own, " and ")
	}
	return fmt.Sprintf("%s is not the address that this comes from (%s), no other connection of the link has it, and it is not "+
		"allowed for this key", e.Addr, from)
}

// Check returns nil if a is proven, else ErrUnproven.
func (p Proof) Check(a netip.Addr) error {
	a = a.Unmap()
	if slices.Contains(p.Own, a) || slices.ContainsFunc(p.Allowed, func(allowed netip.Prefix) bool { return allowed.Contains(a) }) {
		return nil
	}
	return ErrUnproven{Addr: a, Own: p.Own}
}

// Proven returns the proven part of a change from one pair of addresses to another: a family that is not proven stays as it was. err is the
// first ErrUnproven.
func (p Proof) Proven(from, to Pair) (proven Pair, err error) {
	proven = from
	for _, six := range []bool{false, true} {
		a := to.Of(six)
		if a == from.Of(six) {
			continue
		}
		if a.IsValid() {
			if unproven := p.Check(a); unproven != nil {
				if err == nil {
					err = unproven
				}
				continue
			}
		}
		proven = proven.With(six, a)
	}
	return proven, err
}
