package engine

import (
	"context"
	"errors"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// carryOut does what was planned, as a whole or not at all.
func (p *updatePlan) carryOut(ctx context.Context, reply func(rcode int, more bool)) {
	group, ok := p.announcements()
	add, remove := p.difference()
	switch {
	case !ok:
		reply(dns.RcodeRefused, false)
	case len(add)+len(remove) > 0:
		go func() { reply(updateRcode(p.prove(ctx, group, add, remove)), false) }()
	default:
		p.announce(ctx, group, reply)
	}
}

func updateRcode(err error) int {
	if err != nil {
		return dns.RcodeServerFailure
	}
	return dns.RcodeSuccess
}

// announcements gives what the update announces: nothing for a link that has these addresses. ok is false where something must
// not be announced.
func (p *updatePlan) announcements() (group []pending, ok bool) {
	e, now := p.engine, p.engine.now()
	for _, plan := range p.links {
		a := wan.Announcement{Addresses: plan.addresses, Source: wan.SourceInterface, Noticed: now,
			NoIPv4: plan.delete4 && !plan.addresses.IPv4.IsValid(), NoIPv6: plan.delete6 && !plan.addresses.IPv6.IsValid()}
		l, ok := p.site.link(plan.linkID)
		if !ok {
			return nil, false
		}
		e.called(plan.linkID)
		if !plan.addresses.Known() && !plan.delete4 && !plan.delete6 { // it deletes what is not there
			e.heard.note(plan.linkID, now)
			continue
		}
		d, err := wan.Decide(l.Addresses(), a, e.config.Policy)
		if err != nil {
			return nil, false
		}
		if !d.Changed {
			e.heard.note(plan.linkID, now)
			continue
		}
		group = append(group, pending{linkID: plan.linkID, what: a, received: now, update: true})
	}
	return group, true
}

// prove changes the records that prove names to certificate authorities, and the addresses that go with them in the same update.
func (p *updatePlan) prove(ctx context.Context, group []pending, add []names.Record, remove []int64) error {
	e := p.engine
	g := store.Group{Serials: map[int64]uint32{}}
	var at time.Time
	err := e.change(ctx, p.site.Code, "a proof for a certificate was updated", func() error {
		for _, a := range group {
			where, l, ok := e.record.ofLink(a.linkID)
			if !ok {
				return ErrLinkGone
			}
			d, err := wan.Decide(l.Addresses(), a.what, e.config.Policy)
			if err != nil {
				return err
			}
			if d.Changed {
				g.Changes = append(g.Changes, a.change(l, d))
				e.raise(g.Serials, where.followingOne(l.ID))
			}
		}
		if err := e.number(ctx, g.Changes); err != nil {
			return err
		}
		if err := e.store.ChangeZoneRecords(ctx, p.zone.ID, add, remove, g); err != nil || len(g.Changes) == 0 {
			return err
		}
		at = e.now()
		e.unsettled.accept(g)
		return e.settleAlone(ctx)
	})
	if err != nil {
		return err
	}
	for _, c := range g.Changes {
		e.heard.note(c.LinkID, c.Received)
		if where, ok := e.record.site(c.SiteID); ok {
			e.afterMove(where, where.followingOne(c.LinkID), c, store.Stages{MoveID: c.ID, Recorded: at, Published: e.now()})
		}
	}
	e.askAgain(p.site.ID)
	return nil
}

// announce announces the addresses of the links: those of several are recorded together, or none.
func (p *updatePlan) announce(ctx context.Context, group []pending, reply func(rcode int, more bool)) {
	e := p.engine
	switch len(group) {
	case 0:
		reply(dns.RcodeSuccess, false)
	case 1: // the usual case joins everybody else's group
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
