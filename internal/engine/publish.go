package engine

import (
	"fmt"
	"net"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// publishAll brings every hosted zone in line with the record and removes what the record no longer has.
func (e *Engine) publishAll() error {
	fixed := map[int64]authdns.Names{}
	zones := e.record.zoneList()
	for _, z := range zones {
		sets, err := e.fixedSets(z)
		if err != nil {
			return err
		}
		fixed[z.ID] = sets
	}
	e.record.mu.Lock()
	e.record.fixed = fixed
	e.record.mu.Unlock()
	moving, err := e.movingSets(e.record.all())
	if err != nil {
		return err
	}
	for _, z := range zones {
		content := authdns.Names{}
		for name, sets := range fixed[z.ID] {
			content[name] = sets
		}
		for name, sets := range moving[z.ID] {
			content[name] = sets // the fixed sets at the name are among them
		}
		soa := soaOf(z)
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
	return &dns.SOA{Hdr: header(z.Apex, dns.TypeSOA, z.TTL), Ns: string(z.Servers[0].Name) + ".", Mbox: string(z.Contact) + ".",
		Serial: z.Serial, Refresh: z.Refresh, Retry: z.Retry, Expire: z.Expire, Minttl: z.Negative}
}

// republish sets the answers of the hostnames of some sites and the serials of their zones, in place.
func (e *Engine) republish(changed []premises, serials map[int64]uint32) error {
	content, err := e.movingSets(changed)
	if err != nil {
		return err
	}
	for id, serial := range serials {
		z := e.record.zone(id)
		hosted := e.directory.Zone(string(z.Apex))
		if hosted == nil {
			return fmt.Errorf("zone %s is not hosted", z.Apex)
		}
		if err := hosted.Set(content[id], serial); err != nil {
			return err
		}
		e.tellSecondaries(id)
	}
	return nil
}

// movingSets encodes, by zone, everything at the names of some sites' hostnames.
func (e *Engine) movingSets(list []premises) (map[int64]authdns.Names, error) {
	e.record.mu.RLock()
	fixed := e.record.fixed
	e.record.mu.RUnlock()
	out := map[int64]authdns.Names{}
	for _, p := range list {
		for _, h := range p.hostnames {
			sets, err := addressSets(h, p.addressOf(h.LinkID))
			if err != nil {
				return nil, err
			}
			if out[h.ZoneID] == nil {
				out[h.ZoneID] = authdns.Names{}
			}
			for _, name := range append([]string{string(h.Name)}, extraNames(h)...) {
				out[h.ZoneID][name] = append(sets[:len(sets):len(sets)], fixed[h.ZoneID][name]...)
			}
		}
	}
	return out, nil
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
		rr, err := parseRecord(r)
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
				out = append(out, names.Record{Name: s.Name, Type: map[bool]string{true: "A", false: "AAAA"}[a.Is4()], TTL: int(z.TTL), Data: a.String()})
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

// parseRecord reads a record's data as a zone file would have it.
func parseRecord(r names.Record) (dns.RR, error) {
	rr, err := dns.NewRR(fmt.Sprintf("%s. %d IN %s %s", r.Name, r.TTL, r.Type, r.Data))
	if err != nil || rr == nil {
		return nil, fmt.Errorf("%q is not data of a %s record: %v", r.Data, r.Type, err)
	}
	return rr, nil
}

// dataOf writes a record's data as a zone file would have it.
func dataOf(rr dns.RR) string {
	fields := strings.SplitN(rr.String(), "\t", 5) // owner, TTL, class, type, data
	return strings.TrimSpace(fields[len(fields)-1])
}

// addressSets encodes the A and AAAA records of a hostname. Without any address there is none.
func addressSets(h site.Hostname, p wan.Pair) ([]authdns.RRset, error) {
	var out []authdns.RRset
	ttl := uint32(h.TTL)
	if p.IPv4.IsValid() {
		set, err := authdns.NewRRset(&dns.A{Hdr: header(h.Name, dns.TypeA, ttl), A: net.IP(p.IPv4.AsSlice())})
		if err != nil {
			return nil, err
		}
		out = append(out, set)
	}
	if p.IPv6.IsValid() {
		set, err := authdns.NewRRset(&dns.AAAA{Hdr: header(h.Name, dns.TypeAAAA, ttl), AAAA: net.IP(p.IPv6.AsSlice())})
		if err != nil {
			return nil, err
		}
		out = append(out, set)
	}
	return out, nil
}

func header(name names.Name, rrtype uint16, ttl uint32) dns.RR_Header {
	return dns.RR_Header{Name: string(name) + ".", Rrtype: rrtype, Class: dns.ClassINET, Ttl: ttl}
}
