//go:build !linux

package source

import (
	"context"
	"net/netip"
)

// Hops cannot be seen on this system without special rights.
func Hops(context.Context, netip.Addr) []netip.Addr { return nil }
