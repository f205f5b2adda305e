//go:build !linux

package source

import (
	"context"
	"errors"
	"net/netip"

	"inkpost.example/inkpost/internal/wire/igd"
)

// gateway returns the router of the link: on this system it has to be configured.
func (n Network) gateway(six bool) (netip.Addr, error) {
	if n.Gateway.IsValid() && n.Gateway.Is6() == six {
		return n.Gateway, nil
	}
	return netip.Addr{}, errors.New("on this system the router's address has to be configured: set gateway")
}

// Changes returns an error: this system does not report changes, and only the regular check notices.
func Changes(context.Context, func()) error {
	return errors.New("on this system the kernel does not report routes; the regular check notices changes")
}

func (*Gateway) hearPMP(ctx context.Context, _ func(igd.Notice)) { <-ctx.Done() }
