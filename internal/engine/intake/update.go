package intake

import (
	"context"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/access/throttle"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// challenge is the label at which a certificate authority looks for its challenge (RFC 8555 section 8.4).
const challenge = "_acme-challenge."

// updateOfKey is how many updates one key may ask for, its proofs to certificate authorities among them.
var updateOfKey = throttle.Pace{What: "updates", PerSecond: 1, Burst: 20}

// Update implements authdns.Access: it carries out a DNS UPDATE (RFC 2136) as an announcement. A site's key may set the
// addresses of that site's own hostnames, and the TXT records right below them that prove a name to a certificate
// authority; nobody may do anything else. It is carried out as a whole or not at all.
func (e *Intake) Update(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr, reply func(rcode int, more bool)) {
	answer := reply
	reply = func(rcode int, more bool) {
		e.Counters.Announced(counters.ByUpdate, updateOutcome(rcode))
		answer(rcode, more)
	}
	if !e.Store.Leads() && e.PassOn != nil {
		go func() {
			rcode, err := e.PassOn(ctx, m, keyName, from)
			if err != nil {
				rcode = dns.RcodeServerFailure
			}
			answer(rcode, false)
		}()
		return
	}
	if !e.Store.Leads() || !e.updates.Allow(updateOfKey, keyName) {
		reply(dns.RcodeServerFailure, false) // RFC 2136 section 3.8: it may be tried again
		return
	}
	if plain(m) { // the usual case: it depends on nothing that another update could change meanwhile
		plan, rcode := e.planUpdate(m, keyName, from)
		if rcode != dns.RcodeSuccess {
			reply(rcode, false)
			return
		}
		plan.announce(ctx, reply)
		return
	}
	go func() { reply(e.updateInOrder(ctx, m, keyName, from), false) }()
}

// updateOutcome is what came of an update, for the counters: it is not told apart whether it changed anything.
func updateOutcome(rcode int) string {
	switch rcode {
	case dns.RcodeSuccess:
		return "taken"
	case dns.RcodeServerFailure:
		return "failed"
	default:
		return "refused"
	}
}

// plain reports whether an update only sets addresses, whatever is there now.
func plain(m *dns.Msg) bool {
	return len(m.Answer) == 0 && !slices.ContainsFunc(m.Ns, func(rr dns.RR) bool {
		h := rr.Header()
		return h.Class == dns.ClassNONE || strings.HasPrefix(strings.ToLower(h.Name), challenge)
	})
}

// updateInOrder plans and carries out an update while nothing else changes: its prerequisites still hold when it takes effect.
func (e *Intake) updateInOrder(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr) int {
	ctx, cancel := context.WithTimeout(ctx, changes.Limit)
	defer cancel()
	var rcode int
	proofs := false
	wait := func() error { return nil }
	if err := e.InOrder(ctx, func() []changes.Pending {
		var plan updatePlan
		if plan, rcode = e.planUpdate(m, keyName, from); rcode != dns.RcodeSuccess {
			return nil
		}
		if proofs = len(plan.proofs) > 0; proofs {
			return nil
		}
		var group []changes.Pending
		if group, rcode = plan.announcements(); rcode != dns.RcodeSuccess {
			return nil
		}
		wait = collect(group)
		return group
	}); err != nil {
		return dns.RcodeServerFailure
	}
	switch {
	case rcode != dns.RcodeSuccess:
		return rcode
	case proofs:
		return e.proveInOrder(ctx, m, keyName, from)
	}
	return updateRcode(wait())
}

// planUpdate checks an update as a whole and says what it asks for.
func (e *Intake) planUpdate(m *dns.Msg, keyName string, from netip.Addr) (plan updatePlan, rcode int) {
	if len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA {
		return plan, dns.RcodeFormatError
	}
	z, known := e.Record.ZoneByApex(names.Name(rooms.Canonical(m.Question[0].Name)))
	hosted := e.directory.Zone(m.Question[0].Name)
	if !known || hosted == nil || m.Question[0].Qclass != dns.ClassINET {
		return plan, dns.RcodeNotAuth
	}
	key, ok := e.Record.SigningKey(keyName)
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
	p, ok := e.Record.Site(int64(key.SiteID))
	if !ok {
		return plan, dns.RcodeRefused
	}
	plan = updatePlan{intake: e, zone: z, site: p,
		by: Claimant{From: from, Allowed: key.MayAnnounce, Permit: "inkpost signing-key allow " + key.Name}}
	for _, rr := range m.Ns {
		if rcode := plan.take(rr); rcode != dns.RcodeSuccess {
			return plan, rcode
		}
	}
	return plan, dns.RcodeSuccess
}

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
		if !names.Name(rooms.Canonical(h.Name)).Within(apex) {
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
			k := set{rooms.Canonical(h.Name), h.Rrtype}
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
		if !names.Name(rooms.Canonical(h.Name)).Within(apex) {
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
