package engine

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// publishAll brings every hosted zone in line with the record and removes what the record no longer has.
func (e *Engine) publishAll() error {
	fixed, plain := map[int64]authdns.Names{}, map[int64]map[names.Name][]names.Record{}
	zones := e.record.zoneList()
	for _, z := range zones {
		if z.Kind == names.Remote {
			plain[z.ID] = e.fixedRecords(z)
			continue
		}
		sets, err := e.fixedSets(z)
		if err != nil {
			return err
		}
		fixed[z.ID] = sets
	}
	e.record.mu.Lock()
	e.record.fixed, e.record.plain = fixed, plain
	e.record.mu.Unlock()
	e.directory.Keep(func(apex string) bool {
		return slices.ContainsFunc(zones, func(z names.Zone) bool { return z.Kind != names.Remote && string(z.Apex) == apex })
	})
	moving := e.movingSets(e.record.all(), allHostnames)
	for _, z := range zones {
		if z.Kind == names.Remote {
			e.pushDue(z, false)
			continue
		}
		content := authdns.Names{}
		for name, sets := range fixed[z.ID] {
			content[name] = sets
		}
		for name, sets := range moving[z.ID] {
			content[name] = sets // the fixed sets at the name are among them
		}
		soa := soaOf(z)
		var err error
		if hosted := e.directory.Zone(string(z.Apex)); hosted != nil {
			err = hosted.Replace(soa, content)
		} else if hosted, err = authdns.NewZone(soa, content); err == nil {
			e.directory.Put(hosted)
		}
		if err != nil {
			return fmt.Errorf("zone %s: %w", z.Apex, err)
		}
		e.tellSecondaries(z.ID)
	}
	return nil
}

func soaOf(z names.Zone) *dns.SOA {
	return &dns.SOA{Hdr: header(z.Apex, dns.TypeSOA, z.TTL), Ns: string(cmp.Or(z.MName, z.Servers[0].Name)) + ".", Mbox: string(z.Contact) + ".",
		Serial: z.Serial, Refresh: z.Refresh, Retry: z.Retry, Expire: z.Expire, Minttl: z.Negative}
}

// republish sets the answers of those hostnames of some sites that were touched, and the serials of their zones, in place.
func (e *Engine) republish(changed []premises, touched func(premises) []site.Hostname, serials map[int64]uint32) error {
	content := e.movingSets(changed, touched)
	for id, serial := range serials {
		z := e.record.zone(id)
		if z.Kind == names.Remote {
			continue
		}
		hosted := e.directory.Zone(string(z.Apex))
		if hosted == nil {
			return fmt.Errorf("zone %s is not hosted", z.Apex)
		}
		if err := hosted.Set(content[id], serial); err != nil {
			return err
		}
		e.tellSecondaries(id)
	}
	for _, p := range changed {
		for _, h := range touched(p) {
			if z := e.record.zone(h.ZoneID); z.Kind == names.Remote && z.Pushing {
				for _, name := range ownersOf(h) {
					e.queue.add(remoteKey{z.ID, name}, false)
				}
			}
		}
	}
	return nil
}

func allHostnames(p premises) []site.Hostname { return p.hostnames }

// movingSets encodes, by zone, everything at the names of those hostnames of some sites that were touched.
func (e *Engine) movingSets(list []premises, touched func(premises) []site.Hostname) map[int64]authdns.Names {
	e.record.mu.RLock()
	fixed := e.record.fixed
	e.record.mu.RUnlock()
	out := map[int64]authdns.Names{}
	for _, p := range list {
		for _, h := range touched(p) {
			ttl := e.ttlOf(p, h)
			e.names.set(h.ID, func(s *nameState) { s.ttl = ttl })
			sets := addressSets(uint32(ttl), p.answerOf(h))
			if out[h.ZoneID] == nil {
				out[h.ZoneID] = authdns.Names{}
			}
			all := fixed[h.ZoneID]
			out[h.ZoneID][string(h.Name)] = append(sets[:len(sets):len(sets)], all[string(h.Name)]...)
			for _, name := range extraNames(h) {
				out[h.ZoneID][name] = append(sets[:len(sets):len(sets)], all[name]...)
			}
		}
	}
	return out
}

func extraNames(h site.Hostname) []string {
	out := make([]string, len(h.Extras))
	for i, label := range h.Extras {
		out[i] = label + "." + string(h.Name)
	}
	return out
}

// fixedSets encodes everything in a zone but what moves with an address: its servers, mail hosts, aliases, and what
// people recorded.
func (e *Engine) fixedSets(z names.Zone) (authdns.Names, error) {
	type key struct {
		name   string
		rrtype uint16
	}
	grouped := map[key][]dns.RR{}
	var order []key
	add := func(rr dns.RR) {
		k := key{strings.TrimSuffix(rr.Header().Name, "."), rr.Header().Rrtype}
		if grouped[k] == nil {
			order = append(order, k)
		}
		grouped[k] = append(grouped[k], rr)
	}
	for _, r := range e.contentOf(z) {
		if r.Data == "" {
			continue // an address that moves
		}
		rr, err := zonefile.RR(r)
		if err != nil {
			return nil, err
		}
		add(rr)
	}
	out := authdns.Names{}
	for _, k := range order {
		list := grouped[k]
		for _, rr := range list { // records of a set have one TTL (RFC 2181 section 5.2): the shortest
			list[0].Header().Ttl = min(list[0].Header().Ttl, rr.Header().Ttl)
		}
		for _, rr := range list {
			rr.Header().Ttl = list[0].Header().Ttl
		}
		set, err := authdns.NewRRset(list...)
		if err != nil {
			return nil, fmt.Errorf("zone %s: %w", z.Apex, err)
		}
		out[k.name] = append(out[k.name], set)
	}
	return out, nil
}

// contentOf lists all records of a zone; those whose addresses move have no data.
func (e *Engine) contentOf(z names.Zone) []names.Record {
	var out []names.Record
	for _, s := range z.Servers {
		out = append(out, names.Record{Name: z.Apex, Type: "NS", TTL: int(z.TTL), Data: string(s.Name) + "."})
		for _, a := range s.Addresses {
			if s.Name.Within(z.Apex) {
				out = append(out, names.Record{Name: s.Name, Type: addressType(a), TTL: int(z.TTL), Data: a.String()})
			}
		}
	}
	for _, p := range e.record.all() {
		for _, h := range p.hostnames {
			if h.ZoneID == z.ID {
				out = append(out, h.Records()...)
			}
		}
	}
	for _, r := range e.record.redirectList() {
		for _, a := range e.config.RedirectAt {
			if r.ZoneID == z.ID {
				out = append(out, names.Record{Name: r.Name, Type: addressType(a), TTL: r.TTL, Data: a.String()})
			}
		}
	}
	aliases, records := e.record.content()
	for _, a := range aliases {
		if a.ZoneID == z.ID {
			out = append(out, names.Record{Name: a.Name, Type: "CNAME", TTL: a.TTL, Data: string(a.Hostname) + "."})
		}
	}
	for _, r := range records {
		if r.ZoneID == z.ID {
			out = append(out, r.Record())
		}
	}
	return out
}

func addressType(a netip.Addr) string {
	if a.Is4() {
		return "A"
	}
	return "AAAA"
}

// ttlOf gives the TTL of a hostname's addresses now: it is lowered ahead of a change that is planned, or that a
// link's rhythm brings.
func (e *Engine) ttlOf(p premises, h site.Hostname) int {
	l, _ := p.followed(h.LinkID)
	return names.TTLAt(h.TTL, e.expectedChange(l), l.Since, e.now())
}

// fixedRecords lists, by name, the records of a zone that do not move with an address.
func (e *Engine) fixedRecords(z names.Zone) map[names.Name][]names.Record {
	out := map[names.Name][]names.Record{}
	for _, r := range e.contentOf(z) {
		if r.Data != "" {
			out[r.Name] = append(out[r.Name], r)
		}
	}
	return out
}

// addressRecords gives the address records at one name.
func addressRecords(name names.Name, ttl int, pair wan.Pair) (out []names.Record) {
	if pair.IPv4.IsValid() {
		out = append(out, names.Record{Name: name, Type: "A", TTL: ttl, Data: pair.IPv4.String()})
	}
	if pair.IPv6.IsValid() {
		out = append(out, names.Record{Name: name, Type: "AAAA", TTL: ttl, Data: pair.IPv6.String()})
	}
	return out
}

// fullContent lists all records of a zone as they should be answered now.
func (e *Engine) fullContent(z names.Zone) (out []names.Record) {
	for _, list := range e.fixedRecords(z) {
		out = append(out, list...)
	}
	for _, p := range e.record.all() {
		for _, h := range p.hostnames {
			if h.ZoneID != z.ID {
				continue
			}
			for _, name := range ownersOf(h) {
				out = append(out, addressRecords(name, e.ttlOf(p, h), p.answerOf(h))...)
			}
		}
	}
	return out
}

// addressSets encodes the A and AAAA records of a hostname. Without any address there is none.
func addressSets(ttl uint32, p wan.Pair) (out []authdns.RRset) {
	for _, a := range []netip.Addr{p.IPv4, p.IPv6} {
		if a.IsValid() {
			out = append(out, authdns.AddressSet(a, ttl))
		}
	}
	return out
}

func header(name names.Name, rrtype uint16, ttl uint32) dns.RR_Header {
	return dns.RR_Header{Name: string(name) + ".", Rrtype: rrtype, Class: dns.ClassINET, Ttl: ttl}
}
