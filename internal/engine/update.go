package engine

import (
	"context"
	"net/netip"
	"strings"
	"time"

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
func (e *Engine) Update(ctx context.Context, m *dns.Msg, keyName string, _ netip.Addr) int {
	if len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA {
		return dns.RcodeFormatError
	}
	z, known := e.record.zoneByApex(names.Name(canonical(m.Question[0].Name)))
	hosted := e.directory.Zone(m.Question[0].Name)
	if !known || hosted == nil || m.Question[0].Qclass != dns.ClassINET {
		return dns.RcodeNotAuth
	}
	key, ok := e.record.signingKey(keyName)
	if !ok || key.SiteID == 0 {
		return dns.RcodeRefused
	}
	if rcode := prerequisites(hosted, z.Apex, m.Answer); rcode != dns.RcodeSuccess {
		return rcode
	}
	if rcode := prescan(z.Apex, m.Ns); rcode != dns.RcodeSuccess {
		return rcode
	}
	p, ok := e.record.site(int64(key.SiteID))
	if !ok {
		return dns.RcodeRefused
	}
	plan := updatePlan{engine: e, zone: z, site: p, addresses: map[int64]wan.Pair{}, added: map[familyOf]bool{}, deleted: map[familyOf]bool{}}
	for _, rr := range m.Ns {
		if rcode := plan.take(rr); rcode != dns.RcodeSuccess {
			return rcode
		}
	}
	return plan.carryOut(ctx)
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

// familyOf is one address family of one link.
type familyOf struct {
	linkID int64
	six    bool
}

// updatePlan gathers what an update asks for before any of it is done.
type updatePlan struct {
	engine         *Engine
	zone           names.Zone
	site           premises
	addresses      map[int64]wan.Pair // by link ID
	added, deleted map[familyOf]bool
	addTXT         []names.Record
	removeTXT      []int64
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
	family := familyOf{l.ID, h.Rrtype == dns.TypeAAAA}
	if h.Class != dns.ClassINET {
		p.deleted[family] = true
		return dns.RcodeSuccess
	}
	var offered netip.Addr
	switch rr := rr.(type) {
	case *dns.A:
		offered, _ = netip.AddrFromSlice(rr.A.To4())
	case *dns.AAAA:
		offered, _ = netip.AddrFromSlice(rr.AAAA.To16())
	}
	next := p.addresses[l.ID]
	before := next.IPv4
	if family.six {
		before, next.IPv6 = next.IPv6, offered
	} else {
		next.IPv4 = offered
	}
	if before.IsValid() && before != offered {
		return dns.RcodeRefused // two addresses for one link
	}
	p.addresses[l.ID], p.added[family] = next, true
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

func (p *updatePlan) carryOut(ctx context.Context) int {
	gone := map[int64]wan.Announcement{}
	for family := range p.deleted {
		if p.added[family] {
			continue
		}
		a := gone[family.linkID]
		a.NoIPv4, a.NoIPv6 = a.NoIPv4 || !family.six, a.NoIPv6 || family.six
		gone[family.linkID] = a
		if _, named := p.addresses[family.linkID]; !named {
			p.addresses[family.linkID] = wan.Pair{}
		}
	}
	proofs := len(p.addTXT)+len(p.removeTXT) > 0
	if proofs && len(p.addresses) > 0 {
		return dns.RcodeRefused // the two are recorded apart, and could be half-done
	}
	if proofs {
		err := p.engine.change(ctx, p.site.Code, "a proof for a certificate was updated", func() error {
			return p.engine.store.ChangeZoneRecords(ctx, p.zone.ID, p.addTXT, p.removeTXT)
		})
		return updateRcode(err)
	}
	return p.engine.announceTogether(ctx, p.addresses, gone)
}

func updateRcode(err error) int {
	if err != nil {
		return dns.RcodeServerFailure
	}
	return dns.RcodeSuccess
}

// announceTogether announces the addresses of several links at once: all are recorded in one statement, or none.
func (e *Engine) announceTogether(ctx context.Context, addresses map[int64]wan.Pair, gone map[int64]wan.Announcement) int {
	now := e.now()
	var group []pending
	var waiting []chan result
	for linkID, pair := range addresses {
		a := gone[linkID]
		a.Addresses, a.Source, a.Noticed = pair, wan.SourceInterface, now
		_, l, ok := e.record.ofLink(linkID)
		if !ok {
			return dns.RcodeRefused
		}
		d, err := wan.Decide(l.Addresses(), a, e.config.Policy)
		if err != nil {
			return dns.RcodeRefused
		}
		if !d.Changed {
			e.heard.note(linkID, now)
			continue
		}
		done := make(chan result, 1)
		waiting = append(waiting, done)
		group = append(group, pending{linkID: linkID, what: a, received: now, done: done})
	}
	if len(group) == 1 { // the usual case joins everybody else's group
		select {
		case e.intake <- group[0]:
		case <-ctx.Done():
			return dns.RcodeServerFailure
		}
	} else if len(group) > 1 {
		e.commit(ctx, group)
	}
	for _, done := range waiting {
		select {
		case r := <-done:
			if r.err != nil {
				return dns.RcodeServerFailure
			}
		case <-time.After(10 * time.Second):
			return dns.RcodeServerFailure
		case <-ctx.Done():
			return dns.RcodeServerFailure
		}
	}
	return dns.RcodeSuccess
}

// signingAlgorithms are the ones that keys are made for (RFC 8945 section 6).
var signingAlgorithms = []string{"hmac-sha256", "hmac-sha512"}

var _ authdns.Access = (*Engine)(nil)
