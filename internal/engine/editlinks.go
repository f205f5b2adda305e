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
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Links lists the links of a site as they stand now.
func (e *Engine) Links(code string) ([]contract.Link, error) {
	p, err := e.premises(code)
	out := []contract.Link{}
	for l := range p.EachLink() {
		ev := e.linkEvidence(l, e.now())
		out = append(out, contract.Link{Link: ev.Link, Overdue: ev.Overdue, Standing: e.linkReportView(l.ID), Dynamic: l.Dynamic.String(), Pattern: e.patternView(l.ID)})
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
	return contract.Link{Link: ev.Link, Overdue: ev.Overdue, Standing: e.linkReportView(l.ID), Dynamic: l.Dynamic.String(), Pattern: e.patternView(l.ID)}, nil
}

func (e *Engine) link(code, label string) (record.Site, site.Link, error) {
	p, err := e.premises(code)
	if err != nil {
		return p, site.Link{}, err
	}
	l, err := p.LinkNamed(label)
	return p, l, err
}

func linkResource(l site.Link) resource {
	return resource{"link", l.Label, l.ID, l.Revision, l.Tag()}
}

// linkInput gives a link as a person would enter it.
func linkInput(l site.Link) contract.LinkInput {
	in := contract.LinkInput{Label: l.Label, Provider: l.Provider, Mode: string(l.Mode), Position: l.Position, ChangeAt: l.ChangeAt,
		RouterWAN: addressText(l.RouterWAN), Sources: sourceWords(l.Sources), Dynamic: l.Dynamic.String()}
	if l.Mode == site.Static {
		in.IPv4, in.IPv6 = addressText(l.IPv4), addressText(l.IPv6)
	}
	return in
}

// AddLink records a link of a site. The address of a static link is a move like any other, and is recorded with the link.
func (e *Engine) AddLink(ctx context.Context, code string, in contract.LinkInput) (contract.Link, error) {
	var given site.Link
	err := e.change(ctx, func() (edit, error) {
		p, err := e.premises(code)
		if err != nil {
			return edit{}, err
		}
		if in.Position == 0 {
			in.Position = len(p.Links) + 1
		}
		if given, err = e.readLink(site.Link{SiteID: p.ID}, in); err != nil {
			return edit{}, err
		}
		moves := &store.Group{Serials: map[int64]uint32{}}
		return edit{site: p.Code, words: "link " + given.Label + " recorded", moves: moves, write: func(ctx context.Context, tx *store.Store) error {
			id, err := tx.AddLink(ctx, given)
			if err != nil {
				return err
			}
			given.ID = id
			return e.moveStatic(ctx, tx, p, site.Link{ID: id, SiteID: p.ID}, given, moves)
		}}, nil
	})
	if err != nil {
		return contract.Link{}, err
	}
	return e.Link(code, given.Label)
}

// EditLink changes a link of a site.
func (e *Engine) EditLink(ctx context.Context, code, label string, merge Merge[contract.LinkInput]) (contract.Link, error) {
	var given site.Link
	err := e.change(ctx, func() (edit, error) {
		p, l, err := e.link(code, label)
		if err != nil {
			return edit{}, err
		}
		in, err := merged(ctx, e, linkResource(l), linkInput(l), merge)
		if err != nil {
			return edit{}, err
		}
		if given, err = e.readLink(l, in); err != nil {
			return edit{}, err
		}
		moves := &store.Group{Serials: map[int64]uint32{}}
		return edit{site: p.Code, words: "link " + given.Label + " edited", of: linkResource(l), before: linkInput(l), after: linkInput(given), moves: moves,
			write: func(ctx context.Context, tx *store.Store) error {
				if err := tx.EditLink(ctx, given); err != nil {
					return err
				}
				if l.Position != given.Position || !l.ChangeAt.Equal(given.ChangeAt) {
					if _, err := tx.BumpSerials(ctx, p.ZoneIDs()); err != nil {
						return err
					}
				}
				return e.moveStatic(ctx, tx, p, l, given, moves)
			}}, nil
	})
	if err != nil {
		return contract.Link{}, err
	}
	return e.Link(code, given.Label)
}

// readLink reads what a person entered of a link.
func (e *Engine) readLink(l site.Link, in contract.LinkInput) (site.Link, error) {
	v4, err1 := parseAddress("ipv4", in.IPv4)
	v6, err2 := parseAddress("ipv6", in.IPv6)
	router, err3 := parseAddress("router_address", in.RouterWAN)
	dynamic, err := site.ParseRange(in.Dynamic)
	if err != nil {
		return l, site.Flaws{{Field: "dynamic_range", Detail: err.Error()}}
	}
	given := site.Link{ID: l.ID, SiteID: l.SiteID, Label: in.Label, Provider: in.Provider, Mode: site.Mode(in.Mode), Position: in.Position, IPv4: v4, IPv6: v6,
		ChangeAt: in.ChangeAt, RouterWAN: router, Sources: sourcesOf(in.Sources), Dynamic: dynamic}
	given, err = given.Checked(e.config.Policy)
	if err := flawed(err1, err2, err3, err); err != nil {
		return l, err
	}
	if given.Mode == site.Dynamic && given.Addresses().Known() {
		return l, site.Flaws{{Field: "ipv4", Detail: "a dynamic link learns its address from announcements; leave it out, or make the link static"}}
	}
	if at := given.ChangeAt; !at.Equal(l.ChangeAt) && !at.IsZero() && (at.Before(e.now().Add(-names.ShortFor)) || at.After(e.now().AddDate(1, 0, 0))) {
		return l, site.Flaws{{Field: "change_at", Detail: "a planned change lies ahead, within a year"}}
	}
	return given, nil
}

// moveStatic makes the address that an operator typed for a static link a move, in the transaction that records the link.
func (e *Engine) moveStatic(ctx context.Context, tx *store.Store, p record.Site, before, given site.Link, moves *store.Group) error {
	if given.Mode != site.Static {
		return nil
	}
	now := e.now()
	a := wan.Announcement{Addresses: given.Addresses(), Source: wan.SourceFixed, Noticed: now, NoIPv4: !given.IPv4.IsValid(), NoIPv6: !given.IPv6.IsValid()}
	d, err := wan.Decide(before.Addresses(), a, e.config.Policy)
	if err != nil || !d.Changed {
		return err
	}
	moves.Changes = []store.Change{pending{what: a, received: now}.change(before, d)}
	following := p.FollowingLink(given.ID)
	if before.ID == given.ID && len(p.Links) == 0 {
		following = p.Hostnames
	}
	e.raise(moves.Serials, following)
	if err := e.number(ctx, moves.Changes); err != nil {
		return err
	}
	return tx.AcceptWith(ctx, *moves)
}

// RemoveLink removes a link that neither a hostname nor a service names.
func (e *Engine) RemoveLink(ctx context.Context, code, label string) error {
	return e.change(ctx, func() (edit, error) {
		p, l, err := e.link(code, label)
		return edit{site: p.Code, words: "link " + l.Label + " removed", of: linkResource(l), write: func(ctx context.Context, tx *store.Store) error {
			if err := tx.RemoveLink(ctx, l); err != nil {
				return err
			}
			_, err := tx.BumpSerials(ctx, p.ZoneIDs())
			return err
		}}, err
	})
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
