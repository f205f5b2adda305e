package engine

import (
	"context"
	"errors"
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
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
	engine    *Engine
	zone      names.Zone
	site      premises
	links     []linkPlan
	addTXT    []names.Record
	removeTXT []int64
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
	plan, six := p.of(l.ID), h.Rrtype == dns.TypeAAAA
	if h.Class != dns.ClassINET {
		plan.delete4, plan.delete6 = plan.delete4 || !six, plan.delete6 || six
		return dns.RcodeSuccess
	}
	target := &plan.addresses.IPv4
	var offered netip.Addr
	switch rr := rr.(type) {
	case *dns.A:
		offered, _ = netip.AddrFromSlice(rr.A.To4())
	case *dns.AAAA:
		offered, _ = netip.AddrFromSlice(rr.AAAA.To16())
		target = &plan.addresses.IPv6
	}
	if target.IsValid() && *target != offered {
		return dns.RcodeRefused // two addresses for one link
	}
	*target = offered
	return dns.RcodeSuccess
}

// proof takes a change of a TXT record for a certificate authority.
func (p *updatePlan) proof(name names.Name, rr dns.RR) int {
	h := rr.Header()
	if h.Rrtype != dns.TypeTXT && !(h.Rrtype == dns.TypeANY && h.Class == dns.ClassANY) {
		return dns.RcodeRefused
	}
	data := zonefile.Data(rr)
	_, records := p.engine.record.content()
	there := false
	for _, r := range records {
		if r.ZoneID != p.zone.ID || r.Name != name || r.Type != "TXT" {
			continue
		}
		there = there || r.Data == data
		if h.Class == dns.ClassANY || h.Class == dns.ClassNONE && r.Data == data {
			p.removeTXT = append(p.removeTXT, r.ID)
		}
	}
	if h.Class == dns.ClassINET && !there {
		p.addTXT = append(p.addTXT, names.Record{Name: name, Type: "TXT", TTL: int(min(max(h.Ttl, names.MinTTL), names.MaxTTL)), Data: data})
	}
	return dns.RcodeSuccess
}

func (p *updatePlan) carryOut(ctx context.Context, reply func(rcode int, more bool)) {
	proofs := len(p.addTXT)+len(p.removeTXT) > 0
	switch {
	case proofs && len(p.links) > 0:
		reply(dns.RcodeRefused, false) // the two are recorded apart, and could be half-done
	case proofs:
		go func() {
			err := p.engine.change(ctx, p.site.Code, "a proof for a certificate was updated", func() error {
				return p.engine.store.ChangeZoneRecords(ctx, p.zone.ID, p.addTXT, p.removeTXT)
			})
			reply(updateRcode(err), false)
		}()
	default:
		p.announce(ctx, reply)
	}
}

func updateRcode(err error) int {
	if err != nil {
		return dns.RcodeServerFailure
	}
	return dns.RcodeSuccess
}

// announce announces the addresses of the links: those of several are recorded in one transaction, or none.
func (p *updatePlan) announce(ctx context.Context, reply func(rcode int, more bool)) {
	e, now := p.engine, p.engine.now()
	group := make([]pending, 0, len(p.links))
	for _, plan := range p.links {
		a := wan.Announcement{Addresses: plan.addresses, Source: wan.SourceInterface, Noticed: now,
			NoIPv4: plan.delete4 && !plan.addresses.IPv4.IsValid(), NoIPv6: plan.delete6 && !plan.addresses.IPv6.IsValid()}
		l, ok := p.site.link(plan.linkID)
		if !ok {
			reply(dns.RcodeRefused, false)
			return
		}
		e.called(plan.linkID)
		d, err := wan.Decide(l.Addresses(), a, e.config.Policy)
		if err != nil {
			reply(dns.RcodeRefused, false)
			return
		}
		if !d.Changed {
			e.heard.note(plan.linkID, now)
			continue
		}
		group = append(group, pending{linkID: plan.linkID, what: a, received: now, update: true})
	}
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
