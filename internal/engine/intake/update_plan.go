package intake

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// updatePlan gathers what an update asks for before any of it is done.
type updatePlan struct {
	intake *Intake
	zone   names.Zone
	site   record.Site
	by     Claimant // but for the link
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
	name := names.Name(rooms.Canonical(rr.Header().Name))
	host, isProof := strings.CutPrefix(string(name), challenge)
	where, h, ok := p.intake.Record.HostnameAt(names.Name(host))
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
	l, ok := p.site.Followed(host.LinkID)
	h := rr.Header()
	whole := h.Rrtype == dns.TypeANY && h.Class == dns.ClassANY
	if !ok || h.Rrtype != dns.TypeA && h.Rrtype != dns.TypeAAAA && !whole {
		return dns.RcodeRefused
	}
	plan := p.of(l.ID)
	if whole { // the name, and so both addresses of its link (RFC 2136 section 2.5.3); what is added after it in the same update stays
		plan.addresses, plan.delete4, plan.delete6 = wan.Pair{}, true, host.DeviceID == 0
		return dns.RcodeSuccess
	}
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
			plan.after = append(plan.after, names.Record{Name: name, Type: "TXT", TTL: names.TTLOf(h.Ttl), Data: zonefile.Data(rr)})
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
	for _, r := range p.intake.Record.RecordsAt(p.zone.ID, name) {
		if r.Type == "TXT" {
			plan.before, plan.after = append(plan.before, r), append(plan.after, r.Record())
		}
	}
	p.proofs = append(p.proofs, plan)
	return &p.proofs[len(p.proofs)-1]
}

// difference returns what has to be added and removed for all proofs to be as planned.
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

// touched is what carrying the plan out touches.
func (p *updatePlan) touched() *record.Touched {
	out := &record.Touched{Records: map[int64][]names.Name{}}
	for _, one := range p.proofs {
		out.Records[p.zone.ID] = append(out.Records[p.zone.ID], one.name)
	}
	if len(p.links) > 0 {
		out.Sites = []int64{p.site.ID}
	}
	return out
}
