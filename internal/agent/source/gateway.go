package source

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/igd"
	"inkpost.example/inkpost/internal/wire/natpmp"
	"inkpost.example/inkpost/internal/wire/pcp"
)

// Gateway asks the router for its WAN address. Asking changes nothing at the router: NAT-PMP and IGD have a question for the
// address, and whichever of them answers first is the only one that is asked from then on. PCP tells the address of a mapping
// only, and is asked where it is the only way: one mapping is then kept, and renewed when the address is asked for again.
type Gateway struct {
	network Network

	asking sync.Mutex // one question at a time
	speaks protocol   // what the router answered last; "" if that is not known
	tried  time.Time  // when all protocols were tried last
	found  igd.Gateway
	kept   *pcp.Mapping
	sought time.Time // when an IGD was searched for, to ask it for more

	mu     sync.Mutex
	asked  bool       // it has been asked once
	last   netip.Addr // what the router said last
	status string     // of its connection
}

// protocol is one that routers speak.
type protocol string

const (
	byNATPMP protocol = "NAT-PMP"
	byIGD    protocol = "IGD"
	byPCP    protocol = "PCP"
)

// NewGateway prepares the router's questions; Close ends them.
func NewGateway(n Network) *Gateway { return &Gateway{network: n} }

// Close takes back what was kept at the router.
func (g *Gateway) Close() {
	g.asking.Lock()
	defer g.asking.Unlock()
	if g.kept != nil {
		g.kept.Close()
		g.kept = nil
	}
}

// Kind implements Source.
func (*Gateway) Kind() wan.Source { return wan.SourceGateway }

// Learn implements Source.
func (g *Gateway) Learn(ctx context.Context) []wan.Report {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	g.asking.Lock()
	defer g.asking.Unlock()
	out := report(wan.SourceGateway, "", time.Now())
	router, err := g.network.gateway(false)
	if err != nil {
		out.Problem = err.Error()
		return []wan.Report{out}
	}
	external, by, problems := g.ask(ctx, router)
	g.mu.Lock()
	g.asked = true
	if external.IsValid() {
		g.last = external
	}
	g.mu.Unlock()
	if !external.IsValid() {
		out.Via = router.String()
		out.Problem = "the router " + router.String() +
			" answers neither NAT-PMP, UPnP IGD nor PCP: switch one of them on, or enter its WAN address"
		for _, err := range problems {
			if refuses(err) || errors.Is(err, igd.ErrLeadsAway) {
				out.Problem = "the router " + router.String() + ": " + err.Error()
			}
		}
		return []wan.Report{out}
	}
	out.Via, out.Addresses = string(by), wan.PairOf(external)
	return []wan.Report{out}
}

// ask asks by the protocol that answered last, and if there is none, or it does not answer any more, by each.
func (g *Gateway) ask(ctx context.Context, router netip.Addr) (external netip.Addr, by protocol, problems []error) {
	known := g.speaks
	if known != "" {
		external, err := g.askBy(ctx, known, router)
		if err == nil || refuses(err) && time.Since(g.tried) < triedFor {
			return external, known, []error{err}
		}
	}
	g.speaks, g.tried = "", time.Now()
	both := []protocol{byNATPMP, byIGD}
	answers, errs := make([]netip.Addr, len(both)), make([]error, len(both))
	var wg sync.WaitGroup
	for i, p := range both {
		if p == known {
			continue
		}
		wg.Go(func() { answers[i], errs[i] = g.askBy(ctx, p, router) })
	}
	wg.Wait()
	if i := slices.IndexFunc(answers, netip.Addr.IsValid); i >= 0 {
		g.speaks = both[i]
		return answers[i], both[i], nil
	}
	var err error
	if external, err = g.askBy(ctx, byPCP, router); err == nil {
		g.speaks = byPCP
		return external, byPCP, nil
	}
	errs, both = append(errs, err), append(both, byPCP)
	if i := slices.IndexFunc(errs, refuses); i >= 0 {
		g.speaks = both[i]
	}
	return netip.Addr{}, "", errs
}

// triedFor is how long a router that answers that it has no address is asked by that protocol only.
const triedFor = time.Hour

// refuses reports whether the router answered, and gave no address: it has none, or does not tell.
func refuses(err error) bool {
	var p pcp.Refused
	var n natpmp.Refused
	return errors.As(err, &p) && p.Code != 1 || errors.As(err, &n)
}

func (g *Gateway) askBy(ctx context.Context, p protocol, router netip.Addr) (external netip.Addr, err error) {
	switch p {
	case byNATPMP:
		external, _, err = natpmp.External(ctx, g.network.Dial, netip.AddrPortFrom(router, natpmp.Port))
	case byIGD:
		external, err = g.askIGD(ctx, router)
	case byPCP:
		external, err = g.askPCP(ctx, router)
	}
	if err == nil && !external.IsValid() {
		err = errors.New("the router gives no address")
	}
	return external, err
}

// askIGD asks the gateway that was found before, and searches where it does not answer.
func (g *Gateway) askIGD(ctx context.Context, router netip.Addr) (netip.Addr, error) {
	g.mu.Lock()
	found := g.found
	g.mu.Unlock()
	if found.Host.IsValid() {
		if a, err := found.External(ctx); err == nil {
			return a, nil
		}
	}
	found, err := g.search(ctx, router)
	if err != nil {
		return netip.Addr{}, err
	}
	return found.External(ctx)
}

func (g *Gateway) search(ctx context.Context, router netip.Addr) (igd.Gateway, error) {
	found, err := g.network.findIGD(ctx, router)
	g.mu.Lock()
	g.found = found
	g.mu.Unlock()
	return found, err
}

func (g *Gateway) askPCP(ctx context.Context, router netip.Addr) (external netip.Addr, err error) {
	if g.kept != nil {
		if external, _, err = g.kept.External(ctx); err == nil {
			return external, nil
		}
		g.kept.Close() // our own address may be another one
	}
	if g.kept, err = pcp.Open(ctx, g.network.Dial, "udp4", netip.AddrPortFrom(router, pcp.Port)); err != nil {
		return external, err
	}
	if external, _, err = g.kept.External(ctx); err != nil {
		g.kept.Close()
		g.kept = nil
	}
	return external, err
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

// localTowards returns our own address on the router's LAN.
func localTowards(ctx context.Context, n Network, router netip.Addr) (netip.Addr, error) {
	c, err := n.Dial(ctx, "udp4", netip.AddrPortFrom(router, natpmp.Port).String()) // sends nothing
	if err != nil {
		return netip.Addr{}, err
	}
	defer c.Close()
	at, err := netip.ParseAddrPort(c.LocalAddr().String())
	return at.Addr().Unmap(), err
}

// Notices calls news whenever the router announces something new, until ctx ends. It is a hint only. another is the WAN address that the
// router names, if it differs from the last one. Repetitions are no news: routers send notices of mappings, too, and when they are asked.
func (g *Gateway) Notices(ctx context.Context, news func(another netip.Addr)) {
	var wg sync.WaitGroup
	defer wg.Wait()
	hear := func(n igd.Notice) {
		if another, is := g.compare(n); is {
			news(another)
		}
	}
	wg.Go(func() { g.hearPMP(ctx, hear) })
	for ctx.Err() == nil {
		if router, err := g.network.gateway(false); err == nil {
			limited, cancel := context.WithTimeout(ctx, Limit)
			found, err := g.search(limited, router)
			cancel()
			if err == nil {
				if local, err := localTowards(ctx, g.network, router); err == nil {
					_ = found.Watch(ctx, local, hear)
				}
			}
		}
		select { // a router that starts anew has forgotten us
		case <-time.After(5 * time.Minute):
		case <-ctx.Done():
		}
	}
}

// compare reports whether a notice is news, and keeps what it says.
func (g *Gateway) compare(n igd.Notice) (another netip.Addr, is bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if n.Status != "" {
		is = g.status != "" && g.status != n.Status
		g.status = n.Status
	}
	if n.External.IsValid() && n.External != g.last {
		if g.last = n.External; g.asked { // or else it is being asked for the first time
			is, another = true, n.External
		}
	}
	return another, is
}
