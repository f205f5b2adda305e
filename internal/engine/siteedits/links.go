package siteedits

import (
	"context"
	"net/netip"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// LinkResource says which revision of a link an edit is of.
func LinkResource(l site.Link) changes.Resource {
	return changes.Resource{Kind: "link", Name: l.Label, ID: l.ID, Revision: l.Revision, Tag: l.Tag()}
}

// LinkInputOf returns a link as a person would enter it.
func LinkInputOf(l site.Link) contract.LinkInput {
	in := contract.LinkInput{Label: l.Label, Provider: l.Provider, Mode: string(l.Mode), Position: l.Position, ChangeAt: l.ChangeAt,
		RouterWAN: rooms.AddressText(l.RouterWAN), Sources: sourceWords(l.Sources), Dynamic: l.Dynamic.String(), MayMap: l.MayMap,
		Contract: l.Contract}
	if l.Mode == site.Static {
		in.IPv4, in.IPv6 = rooms.AddressText(l.IPv4), rooms.AddressText(l.IPv6)
	}
	return in
}

// AddLink records a link of a site. The address of a static link is a move like any other, and is recorded with the link.
func (e *SiteEdits) AddLink(ctx context.Context, code string, in contract.LinkInput) (contract.Link, error) {
	var given site.Link
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, err := e.SiteSeen(ctx, code)
		if err != nil {
			return changes.Edit{}, err
		}
		if in.Position == 0 {
			in.Position = len(p.Links) + 1
		}
		if given, err = e.ReadLink(site.Link{SiteID: p.ID}, in); err != nil {
			return changes.Edit{}, err
		}
		moves := &store.Group{Serials: map[int64]uint32{}}
		return changes.Edit{Site: p.Code, Words: "link " + given.Label + " recorded", Parts: record.Links, Moves: moves,
			Write: func(ctx context.Context, tx *store.Store) error {
				id, err := tx.AddLink(ctx, given)
				if err != nil {
					return err
				}
				given.ID = id
				if err := e.NoteStatic(p, site.Link{ID: id, SiteID: p.ID}, given, moves); err != nil {
					return err
				}
				return e.AcceptStatic(ctx, tx, moves)
			}}, nil
	})
	if err != nil {
		return contract.Link{}, err
	}
	return e.Link(code, given.Label)
}

// EditLink changes a link of a site.
func (e *SiteEdits) EditLink(ctx context.Context, code, label string, merge changes.Merge[contract.LinkInput]) (contract.Link, error) {
	var given site.Link
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, l, err := e.FindLink(code, label)
		if err != nil {
			return changes.Edit{}, err
		}
		in, err := changes.Merged(ctx, e.Changes, LinkResource(l), LinkInputOf(l), merge)
		if err != nil {
			return changes.Edit{}, err
		}
		if given, err = e.ReadLink(l, in); err != nil {
			return changes.Edit{}, err
		}
		moves, parts := &store.Group{Serials: map[int64]uint32{}}, record.Links
		if given.Label != l.Label { // its keys have the label, too
			parts = 0
		}
		return changes.Edit{Site: p.Code, Words: "link " + given.Label + " edited", Parts: parts, Of: LinkResource(l),
			Before: LinkInputOf(l), After: LinkInputOf(given), Moves: moves,
			Write: func(ctx context.Context, tx *store.Store) error {
				if err := tx.EditLink(ctx, given); err != nil {
					return err
				}
				if l.Position != given.Position || !l.ChangeAt.Equal(given.ChangeAt) {
					if _, err := tx.BumpSerials(ctx, p.ZoneIDs()); err != nil {
						return err
					}
				}
				if err := e.NoteStatic(p, l, given, moves); err != nil {
					return err
				}
				return e.AcceptStatic(ctx, tx, moves)
			}}, nil
	})
	if err != nil {
		return contract.Link{}, err
	}
	return e.Link(code, given.Label)
}

// ReadLink reads what a person entered of a link. Error: site.Flaws.
func (e *SiteEdits) ReadLink(l site.Link, in contract.LinkInput) (site.Link, error) {
	v4, err1 := site.ParseAddress("ipv4", in.IPv4)
	v6, err2 := site.ParseAddress("ipv6", in.IPv6)
	router, err3 := site.ParseAddress("router_address", in.RouterWAN)
	dynamic, err := site.ParseRange(in.Dynamic)
	if err != nil {
		return l, site.Flaws{{Field: "dynamic_range", Detail: err.Error()}}
	}
	given := site.Link{ID: l.ID, SiteID: l.SiteID, Label: in.Label, Provider: in.Provider, Mode: site.Mode(in.Mode),
		Position: in.Position, IPv4: v4, IPv6: v6,
		ChangeAt: in.ChangeAt, RouterWAN: router, Sources: sourcesOf(in.Sources), Dynamic: dynamic,
		MayMap: in.MayMap, Contract: in.Contract}
	given, err = given.Checked(e.Policy)
	if err := changes.Flawed(err1, err2, err3, err); err != nil {
		return l, err
	}
	if given.Mode == site.Dynamic && given.Addresses() == l.Addresses() {
		given.IPv4, given.IPv6 = netip.Addr{}, netip.Addr{} // they were read, and come back
	}
	if given.Mode == site.Dynamic && given.Addresses().Known() {
		return l, site.Flaws{{Field: "ipv4", Detail: "a dynamic link learns its address from announcements; leave it out, or make " +
			"the link static"}}
	}
	if at := given.ChangeAt; !at.Equal(l.ChangeAt) && !at.IsZero() &&
		(at.Before(e.Now().Add(-names.ShortFor)) || at.After(e.Now().AddDate(1, 0, 0))) {
		return l, site.Flaws{{Field: "change_at", Detail: "a planned change lies ahead, within a year"}}
	}
	return given, nil
}

// NoteStatic adds the address that an operator typed for a static link to a group of moves. Error: that of wan.Decide.
func (e *SiteEdits) NoteStatic(p record.Site, before, given site.Link, moves *store.Group) error {
	if given.Mode != site.Static {
		return nil
	}
	now := e.Now()
	a := wan.Announcement{Addresses: given.Addresses(), Source: wan.SourceFixed, Noticed: now, NoIPv4: !given.IPv4.IsValid(),
		NoIPv6: !given.IPv6.IsValid()}
	d, err := wan.Decide(before.Addresses(), a, e.Policy)
	if err != nil || !d.Changed {
		return err
	}
	moves.Changes = append(moves.Changes, changes.Pending{What: a, Received: now}.Change(before, d))
	following := p.FollowingLink(given.ID)
	if before.ID == given.ID && len(p.Links) == 0 {
		following = p.Hostnames
	}
	e.Raise(moves.Serials, following)
	return nil
}

// AcceptStatic makes a group of moves durable, in the transaction that records their links. Error: that of the database.
func (e *SiteEdits) AcceptStatic(ctx context.Context, tx *store.Store, moves *store.Group) error {
	if len(moves.Changes) == 0 {
		return nil
	}
	if err := e.Number(ctx, moves.Changes); err != nil {
		return err
	}
	return tx.AcceptWith(ctx, *moves)
}

// RemoveLink removes a link that neither a hostname nor a service names.
func (e *SiteEdits) RemoveLink(ctx context.Context, code, label string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		p, l, err := e.FindLink(code, label)
		return changes.Edit{Site: p.Code, Words: "link " + l.Label + " removed", Of: LinkResource(l),
			Write: func(ctx context.Context, tx *store.Store) error {
				if err := tx.RemoveLink(ctx, l, e.Removal(ctx)); err != nil {
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
