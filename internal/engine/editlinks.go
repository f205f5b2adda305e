package engine

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// Links lists the links of a site as they stand now.
func (e *Engine) Links(code string) ([]contract.Link, error) {
	p, err := e.premises(code)
	out := []contract.Link{}
	for l := range p.eachLink() {
		ev := e.linkEvidence(l, e.now())
		out = append(out, contract.Link{Link: ev.Link, Overdue: ev.Overdue, Standing: e.standings.view(l.ID), Dynamic: l.Dynamic.String()})
	}
	return out, err
}

// Link gives one link as it stands now.
func (e *Engine) Link(code, label string) (contract.Link, error) {
	_, l, err := e.link(code, label)
	if err != nil {
		return contract.Link{}, err
	}
	ev := e.linkEvidence(l, e.now())
	return contract.Link{Link: ev.Link, Overdue: ev.Overdue, Standing: e.standings.view(l.ID), Dynamic: l.Dynamic.String()}, nil
}

func (e *Engine) link(code, label string) (premises, site.Link, error) {
	p, err := e.premises(code)
	if err != nil {
		return p, site.Link{}, err
	}
	l, err := p.linkNamed(label)
	return p, l, err
}

// LinkInput gives a link as a person would enter it, to edit.
func (e *Engine) LinkInput(code, label string) (contract.LinkInput, error) {
	_, l, err := e.link(code, label)
	in := contract.LinkInput{Label: l.Label, Provider: l.Provider, Mode: string(l.Mode), Position: l.Position, ChangeAt: l.ChangeAt,
		RouterWAN: addressText(l.RouterWAN), Sources: sourceWords(l.Sources), Dynamic: l.Dynamic.String()}
	if l.Mode == site.Static {
		in.IPv4, in.IPv6 = addressText(l.IPv4), addressText(l.IPv6)
	}
	return in, err
}

// AddLink records a link of a site. The address of a static link is announced as fixed, so that it has a history like any
// other.
func (e *Engine) AddLink(ctx context.Context, code string, in contract.LinkInput) (contract.Link, error) {
	p, err := e.premises(code)
	if err != nil {
		return contract.Link{}, err
	}
	if in.Position == 0 {
		in.Position = len(p.links) + 1
	}
	return e.putLink(ctx, p, site.Link{SiteID: p.ID}, in)
}

// EditLink changes a link of a site.
func (e *Engine) EditLink(ctx context.Context, code, label string, in contract.LinkInput) (contract.Link, error) {
	p, l, err := e.link(code, label)
	if err != nil {
		return contract.Link{}, err
	}
	return e.putLink(ctx, p, l, in)
}

func (e *Engine) putLink(ctx context.Context, p premises, l site.Link, in contract.LinkInput) (contract.Link, error) {
	v4, err1 := parseAddress("ipv4", in.IPv4)
	v6, err2 := parseAddress("ipv6", in.IPv6)
	router, err3 := parseAddress("router_address", in.RouterWAN)
	dynamic, err := site.ParseRange(in.Dynamic)
	if err != nil {
		return contract.Link{}, site.Flaws{{Field: "dynamic_range", Detail: err.Error()}}
	}
	given := site.Link{Dynamic: dynamic, RouterWAN: router, Sources: sourcesOf(in.Sources), ID: l.ID, SiteID: p.ID, Label: in.Label, Provider: in.Provider, Mode: site.Mode(in.Mode), Position: in.Position, IPv4: v4, IPv6: v6, ChangeAt: in.ChangeAt}
	given, err = given.Checked(e.config.Policy)
	if err := flawed(err1, err2, err3, err); err != nil {
		return contract.Link{}, err
	}
	if given.Mode == site.Dynamic && given.Addresses().Known() {
		return contract.Link{}, site.Flaws{{Field: "ipv4", Detail: "a dynamic link learns its address from announcements; leave it out, or make the link static"}}
	}
	if at := given.ChangeAt; !at.Equal(l.ChangeAt) && !at.IsZero() && (at.Before(e.now().Add(-names.ShortFor)) || at.After(e.now().AddDate(1, 0, 0))) {
		return contract.Link{}, site.Flaws{{Field: "change_at", Detail: "a planned change lies ahead, within a year"}}
	}
	reordered := l.ID != 0 && (l.Position != given.Position || !l.ChangeAt.Equal(given.ChangeAt))
	err = e.change(ctx, p.Code, fmt.Sprintf("link %s recorded", given.Label), func() error {
		if l.ID == 0 {
			id, err := e.store.AddLink(ctx, given)
			given.ID = id
			return err
		}
		if err := e.store.EditLink(ctx, given); err != nil || !reordered {
			return err
		}
		_, err := e.store.BumpSerials(ctx, zonesOf(p))
		return err
	})
	if err != nil {
		return contract.Link{}, err
	}
	if given.Mode == site.Static {
		if _, err := e.Announce(ctx, given.ID, wan.Announcement{Addresses: given.Addresses(), Source: wan.SourceFixed, Noticed: e.now()}); err != nil {
			return contract.Link{}, err
		}
	}
	return e.Link(p.Code, given.Label)
}

// RemoveLink removes a link that neither a hostname nor a service names.
func (e *Engine) RemoveLink(ctx context.Context, code, label string) error {
	p, l, err := e.link(code, label)
	if err != nil {
		return err
	}
	return e.change(ctx, p.Code, "link "+l.Label+" removed", func() error {
		if err := e.store.RemoveLink(ctx, l); err != nil {
			return err
		}
		_, err := e.store.BumpSerials(ctx, zonesOf(p))
		return err
	})
}

// zonesOf lists the zones that the site's hostnames live in.
func zonesOf(p premises) []int64 {
	seen := map[int64]bool{}
	var out []int64
	for _, h := range p.hostnames {
		if !seen[h.ZoneID] {
			seen[h.ZoneID] = true
			out = append(out, h.ZoneID)
		}
	}
	return out
}

func sourceWords(list []wan.Source) []string {
	out := []string{}
	for _, s := range list {
		out = append(out, string(s))
	}
	return out
}

func sourcesOf(words []string) []wan.Source {
	var out []wan.Source
	for _, w := range words {
		out = append(out, wan.Source(strings.ToLower(strings.TrimSpace(w))))
	}
	return out
}

// parseAddress reads an address that a person typed; "" is the zero Addr. A zone ("%eth0") is refused: it means nothing
// outside the machine it was typed on.
func parseAddress(field, s string) (netip.Addr, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return netip.Addr{}, nil
	}
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, site.Flaws{{Field: field, Detail: fmt.Sprintf("%q is not an IP address; give one such as 192.168.7.20 or 2001:db8::7", s)}}
	}
	return a.Unmap(), nil
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}
