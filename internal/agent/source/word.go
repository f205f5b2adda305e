package source

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/wire/igd"
	"inkpost.example/inkpost/internal/wire/natpmp"
	"inkpost.example/inkpost/internal/wire/pcp"
)

// Word is what the router says beside its WAN address. Up is how long ago it began to keep mappings, as NAT-PMP and PCP tell (a router that
// restarts begins anew), and LineUp how long its line has been up, as IGD tells; 0 where it does not say.
type Word struct {
	Up, LineUp time.Duration
	Line       string // Connected, Disconnected and the like; "" if it does not say
	Trouble    string // why the line failed last
	Ports      []PortWord
}

// Silent reports a router that says nothing.
func (w Word) Silent() bool { return w.Up == 0 && w.Line == "" && w.LineUp == 0 && len(w.Ports) == 0 }

// Port is an external port that the router is asked about.
type Port struct {
	Transport string // tcp or udp
	External  int
}

// PortWord is what the router lists for a port: To is the zero value where it lists nothing.
type PortWord struct {
	Port
	igd.Mapping
}

// PortsMost bounds how many ports the router is asked about at a time: each is a question to a small machine.
const PortsMost = 16

// Word asks the router how long it and its line have been up and what it lists for some ports: NAT-PMP or PCP once, IGD once and once a
// port. Nothing is changed at the router. What it does not tell is left out.
func (g *Gateway) Word(ctx context.Context, ports []Port) (w Word) {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	g.asking.Lock()
	defer g.asking.Unlock()
	router, err := g.network.gateway(false)
	if err != nil {
		return w
	}
	switch {
	case g.speaks == byPCP && g.kept != nil:
		if _, epoch, err := g.kept.External(ctx); err == nil {
			w.Up = time.Duration(epoch) * time.Second
		}
	case g.speaks != byPCP:
		if _, epoch, err := natpmp.External(ctx, g.network.Dial, netip.AddrPortFrom(router, natpmp.Port)); err == nil {
			w.Up = time.Duration(epoch) * time.Second
		}
	}
	found, ok := g.plugged(ctx, router)
	if !ok {
		return w
	}
	if s, err := found.Status(ctx); err == nil {
		w.Line, w.Trouble, w.LineUp = s.Connection, s.Trouble, s.Up
	}
	for _, p := range ports[:min(len(ports), PortsMost)] {
		m, listed, err := found.Listed(ctx, p.Transport, p.External)
		if err != nil {
			break // it does not list, or no longer answers
		}
		one := PortWord{Port: p}
		if listed && m.Enabled {
			one.Mapping = m
		}
		w.Ports = append(w.Ports, one)
	}
	return w
}

// plugged returns the router's IGD: as it was found before, or by a search, now and then.
func (g *Gateway) plugged(ctx context.Context, router netip.Addr) (igd.Gateway, bool) {
	g.mu.Lock()
	found := g.found
	g.mu.Unlock()
	if found.Host.IsValid() {
		return found, true
	}
	if time.Since(g.sought) < triedFor {
		return found, false
	}
	g.sought = time.Now()
	found, err := g.search(ctx, router)
	return found, err == nil
}

// ErrTaken reports a port that the router passes on to somebody already.
var ErrTaken = errors.New("the router does not give the port: it is taken")

// Borrow has the router pass an external port on to a port of this machine for a while: by PCP, NAT-PMP or IGD, whichever it grants
// first. back takes that back; where it is lost, the router ends it by itself. Errors: ErrTaken, and what the router answers.
func (g *Gateway) Borrow(ctx context.Context, p Port, inside int, lease time.Duration) (back func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	g.asking.Lock()
	defer g.asking.Unlock()
	router, err := g.network.gateway(false)
	if err != nil {
		return nil, err
	}
	found, plugged := g.plugged(ctx, router)
	if plugged {
		if m, listed, err := found.Listed(ctx, p.Transport, p.External); err == nil && listed && m.Enabled {
			return nil, ErrTaken
		}
	}
	grant, err := pcp.Map(ctx, g.network.Dial, netip.AddrPortFrom(router, pcp.Port), p.Transport, uint16(p.External), uint16(inside), lease)
	if err == nil {
		return grant.Close, nil
	}
	if refused := (pcp.Refused{}); errors.As(err, &refused) && refused.Code == pcp.CannotProvide {
		return nil, ErrTaken
	}
	at := netip.AddrPortFrom(router, natpmp.Port)
	byPMP := natpmp.Map(ctx, g.network.Dial, at, p.Transport, uint16(p.External), uint16(inside), lease)
	switch {
	case byPMP == nil:
		return func() {
			ctx, cancel := context.WithTimeout(context.Background(), Limit)
			defer cancel()
			_ = natpmp.Unmap(ctx, g.network.Dial, at, p.Transport, uint16(inside))
		}, nil
	case errors.Is(byPMP, natpmp.ErrTaken):
		return nil, ErrTaken
	case !plugged:
		return nil, errors.Join(err, byPMP)
	}
	local, err := localTowards(ctx, g.network, router)
	if err != nil {
		return nil, err
	}
	err = found.Add(ctx, p.Transport, p.External, netip.AddrPortFrom(local, uint16(inside)), lease)
	if errors.Is(err, igd.ErrTaken) {
		return nil, ErrTaken
	}
	if err != nil {
		return nil, err
	}
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), Limit)
		defer cancel()
		_ = found.Remove(ctx, p.Transport, p.External)
	}, nil
}
