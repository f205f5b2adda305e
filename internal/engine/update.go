package engine

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// challenge is the label at which a certificate authority looks for proof (RFC 8555 section 8.4).
const challenge = "_acme-challenge."

// Update implements authdns.Access: it carries out a DNS UPDATE (RFC 2136) as an announcement. A site's key may set the
// addresses of that site's own hostnames, and the TXT records right below them that prove a name to a certificate
// authority; nobody may do anything else. It is carried out as a whole or not at all.
func (e *Engine) Update(ctx context.Context, m *dns.Msg, keyName string, _ netip.Addr, reply func(rcode int, more bool)) {
	if plan, rcode := e.planUpdate(m, keyName); rcode != dns.RcodeSuccess {
		reply(rcode, false)
	} else {
		plan.carryOut(ctx, reply)
	}
}

// planUpdate checks an update as a whole and says what it asks for.
func (e *Engine) planUpdate(m *dns.Msg, keyName string) (plan updatePlan, rcode int) {
	if len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA {
		return plan, dns.RcodeFormatError
	}
	z, known := e.record.zoneByApex(names.Name(canonical(m.Question[0].Name)))
	hosted := e.directory.Zone(m.Question[0].Name)
	if !known || hosted == nil || m.Question[0].Qclass != dns.ClassINET {
		return plan, dns.RcodeNotAuth
	}
	key, ok := e.record.signingKey(keyName)
	if !ok || key.SiteID == 0 {
		return plan, dns.RcodeRefused
	}
	if len(m.Answer) > 0 {
		if rcode := prerequisites(hosted, z.Apex, m.Answer); rcode != dns.RcodeSuccess {
			return plan, rcode
		}
	}
	if rcode := prescan(z.Apex, m.Ns); rcode != dns.RcodeSuccess {
		return plan, rcode
	}
	p, ok := e.record.site(int64(key.SiteID))
	if !ok {
		return plan, dns.RcodeRefused
	}
	plan = updatePlan{engine: e, zone: z, site: p}
	for _, rr := range m.Ns {
		if rcode := plan.take(rr); rcode != dns.RcodeSuccess {
			return plan, rcode
		}
	}
	return plan, dns.RcodeSuccess
}

func canonical(name string) string { return strings.TrimSuffix(strings.ToLower(name), ".") }

// prerequisites checks section 3.2 of RFC 2136.
func prerequisites(z *authdns.Zone, apex names.Name, list []dns.RR) int {
	type set struct {
		name   string
		rrtype uint16
	}
	wanted := map[set][]dns.RR{}
	for _, rr := range list {
		h := rr.Header()
		if h.Ttl != 0 {
			return dns.RcodeFormatError
		}
		if !names.Name(canonical(h.Name)).Within(apex) {
			return dns.RcodeNotZone
		}
		there, err := z.Records(h.Name)
		if err != nil {
			return dns.RcodeFormatError
		}
		has := false
		for _, r := range there {
			has = has || h.Rrtype == dns.TypeANY || r.Header().Rrtype == h.Rrtype
		}
		switch {
		case h.Class == dns.ClassINET:
			k := set{canonical(h.Name), h.Rrtype}
			wanted[k] = append(wanted[k], rr)
		case h.Class != dns.ClassANY && h.Class != dns.ClassNONE, h.Rdlength != 0:
			return dns.RcodeFormatError
		case h.Class == dns.ClassANY && !has && h.Rrtype == dns.TypeANY:
			return dns.RcodeNameError
		case h.Class == dns.ClassANY && !has:
			return dns.RcodeNXRrset
		case h.Class == dns.ClassNONE && has && h.Rrtype == dns.TypeANY:
			return dns.RcodeYXDomain
		case h.Class == dns.ClassNONE && has:
			return dns.RcodeYXRrset
		}
	}
	for k, list := range wanted {
		there, err := z.Records(k.name)
		if err != nil {
			return dns.RcodeFormatError
		}
		count := 0
		for _, r := range there {
			if r.Header().Rrtype != k.rrtype {
				continue
			}
			count++
			found := false
			for _, w := range list {
				found = found || dns.IsDuplicate(r, w)
			}
			if !found {
				return dns.RcodeNXRrset
			}
		}
		if count != len(list) {
			return dns.RcodeNXRrset
		}
	}
	return dns.RcodeSuccess
}

// prescan checks section 3.4.1 of RFC 2136.
func prescan(apex names.Name, list []dns.RR) int {
	meta := func(t uint16) bool { return t == dns.TypeAXFR || t == dns.TypeMAILA || t == dns.TypeMAILB }
	for _, rr := range list {
		h := rr.Header()
		if !names.Name(canonical(h.Name)).Within(apex) {
			return dns.RcodeNotZone
		}
		switch h.Class {
		case dns.ClassINET:
			if h.Rrtype == dns.TypeANY || meta(h.Rrtype) {
				return dns.RcodeFormatError
			}
		case dns.ClassANY:
			if h.Ttl != 0 || h.Rdlength != 0 || meta(h.Rrtype) {
				return dns.RcodeFormatError
			}
		case dns.ClassNONE:
			if h.Ttl != 0 || h.Rrtype == dns.TypeANY || meta(h.Rrtype) {
				return dns.RcodeFormatError
			}
		default:
			return dns.RcodeFormatError
		}
	}
	return dns.RcodeSuccess
}

// updatePlan gathers what an update asks for before any of it is done.
type updatePlan struct {
	engine *Engine
	zone   names.Zone
	site   premises
	links  []linkPlan
	proofs []proofPlan
}

// proofPlan is what stands at one name for a certificate authority, and what is to stand there.
type proofPlan struct {
	name   names.Name
	before []store.ZoneRecord
	after  []names.Record
}

// linkPlan is what an update asks for of one link. A family that is deleted, and not given another address, goes.
type linkPlan struct {
	linkID           int64
	addresses        wan.Pair
	delete4, delete6 bool
}

// of finds the plan of a link, or begins it.
func (p *updatePlan) of(linkID int64) *linkPlan {
	for i := range p.links {
		if p.links[i].linkID == linkID {
			return &p.links[i]
		}
	}
	p.links = append(p.links, linkPlan{linkID: linkID})
	return &p.links[len(p.links)-1]
}

func (p *updatePlan) take(rr dns.RR) int {
	name := names.Name(canonical(rr.Header().Name))
	host, isProof := strings.CutPrefix(string(name), challenge)
	where, h, ok := p.engine.record.at(names.Name(host))
	if !ok || where.ID != p.site.ID || h.ZoneID != p.zone.ID || string(h.Name) != host {
		return dns.RcodeRefused
	}
	if isProof {
		return p.proof(name, rr)
	}
	return p.address(h, rr)
}

// address takes a change of a hostname's A or AAAA records. A hostname has one address of a family, that of its link.
func (p *updatePlan) address(host site.Hostname, rr dns.RR) int {
	l, ok := p.site.followed(host.LinkID)
	h := rr.Header()
	if !ok || h.Rrtype != dns.TypeA && h.Rrtype != dns.TypeAAAA {
		return dns.RcodeRefused
	}
	plan := p.of(l.ID)
	target, gone, now := &plan.addresses.IPv4, &plan.delete4, l.IPv4
	if h.Rrtype == dns.TypeAAAA {
		target, gone, now = &plan.addresses.IPv6, &plan.delete6, l.IPv6
	}
	var offered netip.Addr
	switch rr := rr.(type) {
	case *dns.A:
		offered, _ = netip.AddrFromSlice(rr.A.To4())
	case *dns.AAAA:
		offered, _ = netip.AddrFromSlice(rr.AAAA.To16())
	}
	switch {
	case h.Class == dns.ClassANY:
		*target, *gone = netip.Addr{}, true
	case h.Class == dns.ClassNONE && offered == *target:
		*target = netip.Addr{}
	case h.Class == dns.ClassNONE:
		*gone = *gone || offered == now // to delete what is not there changes nothing (RFC 2136 section 3.4.2.4)
	case target.IsValid() && *target != offered:
		return dns.RcodeRefused // two addresses for one link
	default:
		*target = offered
	}
	return dns.RcodeSuccess
}

// proof takes a change of a TXT record for a certificate authority.
func (p *updatePlan) proof(name names.Name, rr dns.RR) int {
	h := rr.Header()
	if h.Rrtype != dns.TypeTXT && !(h.Rrtype == dns.TypeANY && h.Class == dns.ClassANY) {
		return dns.RcodeRefused
	}
	plan := p.proofsAt(name)
	same := func(r names.Record) bool { return r.Data == zonefile.Data(rr) }
	switch h.Class {
	case dns.ClassANY:
		plan.after = nil
	case dns.ClassNONE:
		plan.after = slices.DeleteFunc(plan.after, same)
	default:
		if !slices.ContainsFunc(plan.after, same) {
			plan.after = append(plan.after, names.Record{Name: name, Type: "TXT", TTL: int(min(max(h.Ttl, names.MinTTL), names.MaxTTL)), Data: zonefile.Data(rr)})
		}
	}
	return dns.RcodeSuccess
}

// proofsAt finds the plan of a name, or begins it with what stands there.
func (p *updatePlan) proofsAt(name names.Name) *proofPlan {
	for i := range p.proofs {
		if p.proofs[i].name == name {
			return &p.proofs[i]
		}
	}
	plan := proofPlan{name: name}
	_, records := p.engine.record.content()
	for _, r := range records {
		if r.ZoneID == p.zone.ID && r.Name == name && r.Type == "TXT" {
			plan.before, plan.after = append(plan.before, r), append(plan.after, r.Record())
		}
	}
	p.proofs = append(p.proofs, plan)
	return &p.proofs[len(p.proofs)-1]
}

// difference gives what has to be added and removed for all proofs to be as planned.
func (p *updatePlan) difference() (add []names.Record, remove []int64) {
	for _, plan := range p.proofs {
		for _, r := range plan.before {
			if !slices.ContainsFunc(plan.after, func(a names.Record) bool { return a.Data == r.Data }) {
				remove = append(remove, r.ID)
			}
		}
		for _, a := range plan.after {
			if !slices.ContainsFunc(plan.before, func(r store.ZoneRecord) bool { return r.Data == a.Data }) {
				add = append(add, a)
			}
		}
	}
	return add, remove
}

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

// signingAlgorithms are the ones that keys are made for (RFC 8945 section 6).
var signingAlgorithms = []string{"hmac-sha256", "hmac-sha512"}

var _ authdns.Access = (*Engine)(nil)
