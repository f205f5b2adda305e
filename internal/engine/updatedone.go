package engine

import (
	"context"
	"errors"
	"net/netip"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// updateRcode is how the outcome of an update is told (RFC 2136 section 2.2).
func updateRcode(err error) int {
	var refused Refused
	var notPublic wan.ErrNotPublic
	switch {
	case err == nil:
		return dns.RcodeSuccess
	case errors.As(err, &refused), errors.As(err, &notPublic):
		return dns.RcodeRefused
	}
	return dns.RcodeServerFailure
}

// announcements gives what the update announces: nothing for a link that has these addresses.
func (p *updatePlan) announcements() (group []pending, rcode int) {
	e, now := p.engine, p.engine.now()
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
		d, err := wan.Decide(l.Addresses(), a, e.config.Policy)
		if err != nil {
			e.SiteSide.NoteRefusal(l.ID, err.Error(), by.From) // the sender learns REFUSED only, and the site why
			return nil, updateRcode(err)
		}
		if !d.Changed {
			e.SiteSide.NoteHeard(plan.linkID, now)
			continue
		}
		group = append(group, pending{linkID: plan.linkID, what: a, received: now, update: true})
	}
	return group, dns.RcodeSuccess
}

// proveInOrder changes the records that prove names to certificate authorities, and the addresses that go with them in the same
// update.
func (e *Engine) proveInOrder(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr) (rcode int) {
	err := e.change(ctx, func() (edit, error) {
		plan, code := e.planUpdate(m, keyName, from)
		var group []pending
		if code == dns.RcodeSuccess {
			group, code = plan.announcements()
		}
		add, remove := plan.difference()
		if rcode = code; code != dns.RcodeSuccess || len(add)+len(remove)+len(group) == 0 {
			return edit{}, errNothing
		}
		g := &store.Group{Serials: map[int64]uint32{}}
		for _, a := range group {
			where, l, ok := e.record.SiteOfLink(a.linkID)
			if !ok {
				return edit{}, ErrLinkGone
			}
			d, err := wan.Decide(l.Addresses(), a.what, e.config.Policy)
			if err != nil {
				return edit{}, err
			}
			if d.Changed {
				g.Changes = append(g.Changes, a.change(l, d))
				e.raise(g.Serials, where.FollowingLink(l.ID))
			}
		}
		touched := plan.touched()
		return edit{site: plan.site.Code, words: "a proof for a certificate was updated", touched: touched, moves: g, write: func(ctx context.Context, tx *store.Store) error {
			if err := e.number(ctx, g.Changes); err != nil {
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
	e := p.engine
	group, rcode := p.announcements()
	switch {
	case rcode != dns.RcodeSuccess || len(group) == 0:
		reply(rcode, false)
	case len(group) == 1: // the usual case joins everybody else's group
		group[0].done = func(r result, more bool) { reply(updateRcode(r.err), more) }
		select {
		case e.intake <- group[0]:
		default:
			reply(dns.RcodeServerFailure, false) // thousands are waiting
		}
	default:
		results := make(chan error, len(group))
		for i := range group {
			group[i].done = func(r result, _ bool) { results <- r.err }
		}
		go func() {
			e.commit(ctx, group)
			var err error
			for range group {
				err = errors.Join(err, <-results)
			}
			reply(updateRcode(err), false)
		}()
	}
}
