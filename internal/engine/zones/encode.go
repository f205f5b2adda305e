package zones

import (
	"cmp"
	"fmt"
	"net/netip"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

func soaOf(z names.Zone) *dns.SOA {
	return &dns.SOA{Hdr: header(z.Apex, dns.TypeSOA, z.TTL), Ns: string(cmp.Or(z.MName, z.Servers[0].Name)) + ".",
		Mbox:   string(z.Contact) + ".",
		Serial: z.Serial, Refresh: z.Refresh, Retry: z.Retry, Expire: z.Expire, Minttl: z.Negative}
}

func header(name names.Name, rrtype uint16, ttl uint32) dns.RR_Header {
	return dns.RR_Header{Name: string(name) + ".", Rrtype: rrtype, Class: dns.ClassINET, Ttl: ttl}
}

// movingSets encodes, by zone, everything at the names of those hostnames of some sites that were touched.
func (z *Zones) movingSets(list []record.Site, touched Touched) map[int64]authdns.Names {
	out := map[int64]authdns.Names{}
	ttls := map[int64]int{}
	for _, p := range list {
		for _, h := range touched(p) {
			ttls[h.ID] = z.TTLOf(p, h)
		}
	}
	z.noteTTLs(ttls)
	z.mu.RLock()
	defer z.mu.RUnlock()
	for _, p := range list {
		for _, h := range touched(p) {
			sets := addressSets(uint32(ttls[h.ID]), p.AnswerOf(h))
			if out[h.ZoneID] == nil {
				out[h.ZoneID] = authdns.Names{}
			}
			fixed := z.fixed[h.ZoneID]
			out[h.ZoneID][string(h.Name)] = append(sets[:len(sets):len(sets)], fixed[h.Name]...)
			if len(h.Extras) == 0 {
				continue
			}
			for _, name := range h.Owners()[1:] {
				out[h.ZoneID][string(name)] = append(sets[:len(sets):len(sets)], fixed[name]...)
			}
		}
	}
	return out
}

// addressSetsAt encodes the addresses at a name of a zone, if it is that of a hostname.
func (z *Zones) addressSetsAt(zone names.Zone, name names.Name) []authdns.RRset {
	p, h, ok := z.record.HostnameAt(name)
	if !ok || h.ZoneID != zone.ID {
		return nil
	}
	ttl := z.TTLOf(p, h)
	z.noteTTLs(map[int64]int{h.ID: ttl})
	return addressSets(uint32(ttl), p.AnswerOf(h))
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

// encodeAll encodes everything in a zone but the addresses of hostnames.
func (z *Zones) encodeAll(zone names.Zone) (map[names.Name][]authdns.RRset, error) {
	out := map[names.Name][]authdns.RRset{}
	byName := map[names.Name][]names.Record{}
	for _, r := range z.Content(zone) {
		byName[r.Name] = append(byName[r.Name], r)
	}
	for name, records := range byName {
		sets, err := encode(zone, records)
		if err != nil {
			return nil, err
		}
		if len(sets) > 0 {
			out[name] = sets
		}
	}
	return out, nil
}

func (z *Zones) encodeAt(zone names.Zone, name names.Name) ([]authdns.RRset, error) {
	return encode(zone, z.ContentAt(zone, name))
}

// encode encodes the records at one name, but for addresses that move.
func encode(zone names.Zone, records []names.Record) (out []authdns.RRset, err error) {
	grouped := map[uint16][]dns.RR{}
	var order []uint16
	for _, r := range records {
		if r.Data == "" {
			continue // an address that moves
		}
		rr, err := zonefile.RR(r)
		if err != nil {
			return nil, err
		}
		t := rr.Header().Rrtype
		if grouped[t] == nil {
			order = append(order, t)
		}
		grouped[t] = append(grouped[t], rr)
	}
	for _, t := range order {
		list := grouped[t]
		for _, rr := range list { // records of a set have one TTL (RFC 2181 section 5.2): the shortest
			list[0].Header().Ttl = min(list[0].Header().Ttl, rr.Header().Ttl)
		}
		for _, rr := range list {
			rr.Header().Ttl = list[0].Header().Ttl
		}
		set, err := authdns.NewRRset(list...)
		if err != nil {
			return nil, fmt.Errorf("zone %s: %w", zone.Apex, err)
		}
		out = append(out, set)
	}
	return out, nil
}

// addressRecords returns the address records at one name.
func addressRecords(name names.Name, ttl int, pair wan.Pair) (out []names.Record) {
	if pair.IPv4.IsValid() {
		out = append(out, names.Record{Name: name, Type: "A", TTL: ttl, Data: pair.IPv4.String()})
	}
	if pair.IPv6.IsValid() {
		out = append(out, names.Record{Name: name, Type: "AAAA", TTL: ttl, Data: pair.IPv6.String()})
	}
	return out
}

// TTLOf returns the TTL, in seconds, of a hostname's addresses now: it is lowered ahead of an expected change of the address.
func (z *Zones) TTLOf(p record.Site, h site.Hostname) int {
	l, _ := p.Followed(h.LinkID)
	return names.TTLAt(h.TTL, z.host.ExpectedChange(l), l.Since, z.now())
}
