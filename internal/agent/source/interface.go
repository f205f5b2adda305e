package source

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// Interface takes the addresses of a named network interface.
type Interface struct{ Name string }

// Kind implements Source.
func (Interface) Kind() wan.Source { return wan.SourceInterface }

// Learn implements Source.
func (s Interface) Learn(context.Context) []wan.Report {
	out := report(wan.SourceInterface, s.Name, time.Now())
	i, err := net.InterfaceByName(s.Name)
	if err != nil {
		out.Problem = fmt.Sprintf("there is no interface %q; ip link lists them", s.Name)
		return []wan.Report{out}
	}
	addresses, err := i.Addrs()
	if err != nil {
		out.Problem = err.Error()
		return []wan.Report{out}
	}
	for _, a := range addresses {
		p, err := netip.ParsePrefix(a.String())
		if err != nil {
			continue
		}
		out.Addresses = better(out.Addresses, p.Addr().Unmap())
	}
	switch {
	case i.Flags&net.FlagUp == 0:
		out.Addresses, out.Problem = wan.Pair{}, fmt.Sprintf("the interface %s is down", s.Name)
	case !out.Addresses.Known():
		out.Problem = fmt.Sprintf("the interface %s has no address", s.Name)
	}
	return []wan.Report{out}
}

// better takes an address where its family has none yet, or only one that reaches less far.
func better(p wan.Pair, a netip.Addr) wan.Pair {
	now := p.Of(a.Is6())
	if a.IsLinkLocalUnicast() || now.IsValid() && (wan.ClassOf(now) == wan.ClassPublic || wan.ClassOf(a) != wan.ClassPublic) {
		return p
	}
	return p.With(a.Is6(), a)
}
