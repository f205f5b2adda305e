package source

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/igd"
	"inkpost.example/inkpost/internal/wire/natpmp"
	"inkpost.example/inkpost/internal/wire/pcp"
)

// Gateway asks the router for its WAN address, by each of the three protocols that routers speak. Each that answers is a voice of
// its own: a report's Via says which.
type Gateway struct{ Network Network }

// Kind implements Source.
func (Gateway) Kind() wan.Source { return wan.SourceGateway }

// Learn implements Source.
func (g Gateway) Learn(ctx context.Context) []wan.Report {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	now := time.Now()
	four, err := g.Network.gateway(false)
	if err != nil {
		r := report(wan.SourceGateway, "", now)
		r.Problem = err.Error()
		return []wan.Report{r}
	}
	asks := []struct {
		via string
		ask func() (netip.Addr, error)
	}{
		{"PCP", func() (netip.Addr, error) {
			a, _, err := pcp.External(ctx, g.Network.Dial, "udp4", netip.AddrPortFrom(four, pcp.Port))
			return a, err
		}},
		{"NAT-PMP", func() (netip.Addr, error) {
			a, _, err := natpmp.External(ctx, g.Network.Dial, netip.AddrPortFrom(four, natpmp.Port))
			return a, err
		}},
		{"IGD", func() (netip.Addr, error) { return g.igd(ctx, four) }},
		{"PCP over IPv6", func() (netip.Addr, error) {
			six, err := g.Network.gateway(true)
			if err != nil {
				return netip.Addr{}, err
			}
			a, _, err := pcp.External(ctx, g.Network.Dial, "udp6", netip.AddrPortFrom(six, pcp.Port))
			return a, err
		}},
	}
	answers := make([]netip.Addr, len(asks))
	problems := make([]error, len(asks))
	var wg sync.WaitGroup
	for i, a := range asks {
		wg.Go(func() { answers[i], problems[i] = a.ask() })
	}
	wg.Wait()
	var out []wan.Report
	for i, a := range asks {
		if problems[i] == nil && answers[i].IsValid() {
			r := report(wan.SourceGateway, a.via, now)
			r.Addresses = wan.PairOf(answers[i])
			out = append(out, r)
		}
	}
	if len(out) > 0 {
		return out
	}
	r := report(wan.SourceGateway, four.String(), now)
	r.Problem = "the router " + four.String() + " answers neither PCP, NAT-PMP nor UPnP IGD: switch one of them on, or type its WAN address"
	for _, err := range problems[:3] {
		var p pcp.Refused
		var n natpmp.Refused
		if errors.As(err, &p) && p.Code != 1 || errors.As(err, &n) || errors.Is(err, igd.ErrLeadsAway) {
			r.Problem = "the router " + four.String() + ": " + err.Error()
		}
	}
	return []wan.Report{r}
}

func (g Gateway) igd(ctx context.Context, router netip.Addr) (netip.Addr, error) {
	found, err := g.Network.findIGD(ctx, router)
	if err != nil {
		return netip.Addr{}, err
	}
	return found.External(ctx)
}

func (n Network) findIGD(ctx context.Context, router netip.Addr) (igd.Gateway, error) {
	at := n.Search
	if !at.IsValid() {
		at = igd.Group
	}
	local, err := localTowards(ctx, n, router)
	if err != nil {
		return igd.Gateway{}, err
	}
	return igd.Find(ctx, local, at)
}

// localTowards gives our own address on the router's LAN.
func localTowards(ctx context.Context, n Network, router netip.Addr) (netip.Addr, error) {
	c, err := n.Dial(ctx, "udp4", netip.AddrPortFrom(router, natpmp.Port).String()) // sends nothing
	if err != nil {
		return netip.Addr{}, err
	}
	defer c.Close()
	at, err := netip.ParseAddrPort(c.LocalAddr().String())
	return at.Addr().Unmap(), err
}

// Notices calls changed whenever the router tells that its address changed, until ctx ends. What it tells is a hint only.
func (g Gateway) Notices(ctx context.Context, changed func()) {
	var wg sync.WaitGroup
	defer wg.Wait()
	wg.Go(func() { g.hearPMP(ctx, changed) })
	for ctx.Err() == nil {
		if router, err := g.Network.gateway(false); err == nil {
			limited, cancel := context.WithTimeout(ctx, Limit)
			found, err := g.Network.findIGD(limited, router)
			cancel()
			if err == nil {
				if local, err := localTowards(ctx, g.Network, router); err == nil {
					_ = found.Watch(ctx, local, changed)
				}
			}
		}
		select { // a router that starts anew has forgotten us
		case <-time.After(5 * time.Minute):
		case <-ctx.Done():
		}
	}
}
