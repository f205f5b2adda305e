package engine

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// challenge is the label at which a certificate authority looks for proof (RFC 8555 section 8.4).
const challenge = "_acme-challenge."

// KeyRate is how many announcements a second a key may make where nothing else is set.
const KeyRate = 2

// updateOfKey is how many updates one key may ask for, its proofs to certificate authorities among them.
var updateOfKey = access.Pace{What: "updates", PerSecond: 1, Burst: 20}

// Update implements authdns.Access: it carries out a DNS UPDATE (RFC 2136) as an announcement. A site's key may set the
// addresses of that site's own hostnames, and the TXT records right below them that prove a name to a certificate
// authority; nobody may do anything else. It is carried out as a whole or not at all.
func (e *Engine) Update(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr, reply func(rcode int, more bool)) {
	if e.lost() || !e.updates.Allow(updateOfKey, keyName) {
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

// plain reports whether an update only sets addresses, whatever is there now.
func plain(m *dns.Msg) bool {
	return len(m.Answer) == 0 && !slices.ContainsFunc(m.Ns, func(rr dns.RR) bool {
		h := rr.Header()
		return h.Class == dns.ClassNONE || strings.HasPrefix(strings.ToLower(h.Name), challenge)
	})
}

// awaitPublished returns when what was recorded so far is answered.
func (e *Engine) awaitPublished() {
	e.publishing.Lock()
	defer e.publishing.Unlock()
}

// updateInOrder plans and carries out an update while nothing else changes: what it asks to be so, or to be removed, is so when
// the rest takes effect.
func (e *Engine) updateInOrder(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr) int {
	ctx, cancel := context.WithTimeout(ctx, editLimit)
	defer cancel()
	if e.edit.Acquire(ctx, 1) != nil {
		return dns.RcodeServerFailure
	}
	e.awaitPublished()
	plan, rcode := e.planUpdate(m, keyName, from)
	if rcode != dns.RcodeSuccess || len(plan.proofs) > 0 {
		e.edit.Release(1)
		if rcode != dns.RcodeSuccess {
			return rcode
		}
		return e.proveInOrder(ctx, m, keyName, from)
	}
	group, rcode := plan.announcements()
	results := make(chan error, len(group))
	for i := range group {
		group[i].done = func(r result, _ bool) { results <- r.err }
	}
	if rcode == dns.RcodeSuccess && len(group) > 0 {
		e.commitInOrder(ctx, group)
	}
	e.edit.Release(1)
	if rcode != dns.RcodeSuccess {
		return rcode
	}
	var err error
	for range group {
		err = errors.Join(err, <-results)
	}
	return updateRcode(err)
}

// planUpdate checks an update as a whole and says what it asks for.
func (e *Engine) planUpdate(m *dns.Msg, keyName string, from netip.Addr) (plan updatePlan, rcode int) {
	if len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA {
		return plan, dns.RcodeFormatError
	}
	z, known := e.record.ZoneByApex(names.Name(canonical(m.Question[0].Name)))
	hosted := e.directory.Zone(m.Question[0].Name)
	if !known || hosted == nil || m.Question[0].Qclass != dns.ClassINET {
		return plan, dns.RcodeNotAuth
	}
	key, ok := e.record.SigningKey(keyName)
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
	p, ok := e.record.Site(int64(key.SiteID))
	if !ok {
		return plan, dns.RcodeRefused
	}
	plan = updatePlan{engine: e, zone: z, site: p, by: Claimant{From: from, Allowed: key.MayAnnounce, Permit: "inkpost signing-key allow " + key.Name}}
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

// signingAlgorithms are the ones that keys are made for (RFC 8945 section 6).
var signingAlgorithms = []string{"hmac-sha256", "hmac-sha512"}

var _ authdns.Access = (*Engine)(nil)
