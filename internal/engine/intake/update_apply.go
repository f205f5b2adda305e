package intake

import (
	"context"
	"errors"
	"net/netip"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/store"
)

// updateRcode is the RCODE for the outcome of an update (RFC 2136 section 2.2).
func updateRcode(err error) int {
	var refused changes.Refused
	var notPublic wan.ErrNotPublic
	switch {
	case err == nil:
		return dns.RcodeSuccess
	case errors.As(err, &refused), errors.As(err, &notPublic):
		return dns.RcodeRefused
	}
	return dns.RcodeServerFailure
}

// announcements returns what the update announces: nothing for a link that has these addresses.
func (p *updatePlan) announcements() (group []changes.Pending, rcode int) {
	e, now := p.intake, p.intake.Now()
	for _, plan := range p.links {
		a := wan.Announcement{Addresses: plan.addresses, Source: wan.SourceInterface, Noticed: now,
			NoIPv4: plan.delete4 && !plan.addresses.IPv4.IsValid(), NoIPv6: plan.delete6 && !plan.addresses.IPv6.IsValid()}
		l, ok := p.site.Link(plan.linkID)
		if !ok {
			return nil, dns.RcodeRefused
		}
		by := p.by
		by.LinkID = l.ID
		if a.Addresses == wan.PairOf(by.From) {
			a.Source = wan.SourceObserved
		}
		if err := e.permits(by, l, a); err != nil {
			return nil, dns.RcodeRefused
		}
		e.SiteSide.NoteCalled(plan.linkID)
		if !plan.addresses.Known() && !plan.delete4 && !plan.delete6 { // it deletes what is not there
			e.SiteSide.NoteHeard(plan.linkID, now)
			continue
		}
		d, err := wan.Decide(l.Addresses(), a, e.Policy)
		if err != nil {
			e.SiteSide.NoteRefusal(l.ID, err.Error(), by.From) // the sender learns REFUSED only, and the site why
			return nil, updateRcode(err)
		}
		if !d.Changed {
			e.SiteSide.NoteHeard(plan.linkID, now)
			continue
		}
		group = append(group, changes.Pending{LinkID: plan.linkID, What: a, Received: now, Update: true})
	}
	return group, dns.RcodeSuccess
}

// proveInOrder changes the records that prove names to certificate authorities, and the addresses that go with them in the same
// update.
func (e *Intake) proveInOrder(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr) (rcode int) {
	err := e.Change(ctx, func() (changes.Edit, error) {
		plan, code := e.planUpdate(m, keyName, from)
		var group []changes.Pending
		if code == dns.RcodeSuccess {
			group, code = plan.announcements()
		}
		add, remove := plan.difference()
		if rcode = code; code != dns.RcodeSuccess || len(add)+len(remove)+len(group) == 0 {
			return changes.Edit{}, errNothing
		}
		g := &store.Group{Serials: map[int64]uint32{}}
		for _, a := range group {
			where, l, ok := e.Record.SiteOfLink(a.LinkID)
			if !ok {
				return changes.Edit{}, changes.ErrLinkGone
			}
			d, err := wan.Decide(l.Addresses(), a.What, e.Policy)
			if err != nil {
				return changes.Edit{}, err
			}
			if d.Changed {
				g.Changes = append(g.Changes, a.Change(l, d))
				e.Raise(g.Serials, where.FollowingLink(l.ID))
			}
		}
		touched := plan.touched()
		return changes.Edit{Site: plan.site.Code, Words: "a certificate challenge was updated", Touched: touched, Moves: g,
			Write: func(ctx context.Context, tx *store.Store) error {
				if err := e.Number(ctx, g.Changes); err != nil {
					return err
				}
				return tx.ChangeZoneRecords(ctx, plan.zone.ID, add, remove, *g)
			}}, nil
	})
	if errors.Is(err, errNothing) {
		return rcode
	}
	return updateRcode(err)
}

// errNothing ends an edit that has nothing to write.
var errNothing = errors.New("nothing to write")

// announce announces the addresses of the links: those of several are recorded together, or none.
func (p *updatePlan) announce(ctx context.Context, reply func(rcode int, more bool)) {
	group, rcode := p.announcements()
	switch {
	case rcode != dns.RcodeSuccess || len(group) == 0:
		reply(rcode, false)
	case len(group) == 1: // in the usual case it joins the next group
		group[0].Done = func(r changes.Result, more bool) { reply(updateRcode(r.Err), more) }
		if !p.intake.Queue(group[0]) {
			reply(dns.RcodeServerFailure, false) // too many are waiting
		}
	default:
		go func() {
			wait := collect(group)
			p.intake.CommitTogether(ctx, group)
			reply(updateRcode(wait()), false)
		}()
	}
}

// collect has the results of a group gathered; wait returns their errors once all are there.
func collect(group []changes.Pending) (wait func() error) {
	results := make(chan error, len(group))
	for i := range group {
		group[i].Done = func(r changes.Result, _ bool) { results <- r.Err }
	}
	return func() (err error) {
		for range group {
			err = errors.Join(err, <-results)
		}
		return err
	}
}
