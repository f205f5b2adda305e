package source

import (
	"context"
	"net/netip"
	"sync"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/stun"
)

// STUN asks STUN servers (RFC 8489), each of which is a voice of its own. The credential is for the first, Ink Post's own: only
// that one's answers cannot be forged.
type STUN struct {
	Network    Network
	Servers    []string
	Credential stun.Credential
}

// Kind implements Source.
func (STUN) Kind() wan.Source { return wan.SourceSTUN }

// Learn implements Source.
func (s STUN) Learn(ctx context.Context) []wan.Report {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	out := make([]wan.Report, len(s.Servers))
	var wg sync.WaitGroup
	for i, server := range s.Servers {
		wg.Go(func() {
			var c stun.Credential
			if i == 0 {
				c = s.Credential
			}
			out[i] = both(wan.SourceSTUN, server, func(six bool) (netip.Addr, error) {
				at, err := stun.Ask(ctx, s.Network.Dial, proto("udp", six), server, c)
				return at.Addr(), err
			})
		})
	}
	wg.Wait()
	return out
}
