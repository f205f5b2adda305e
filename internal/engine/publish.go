package engine

import (
	"fmt"
	"net"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// publishAll makes every hosted zone anew from the record and removes those that are no longer on it.
func (e *Engine) publishAll() error {
	content := map[int64]authdns.Names{}
	for _, p := range e.record.all() {
		for _, h := range p.hostnames {
			if content[h.ZoneID] == nil {
				content[h.ZoneID] = authdns.Names{}
			}
			sets, err := addressSets(h, p.addressOf(h.LinkID))
			if err != nil {
				return err
			}
			content[h.ZoneID][string(h.Name)] = sets
		}
	}
	for _, z := range e.record.zoneList() {
		if err := e.publishZone(z, content[z.ID]); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) publishZone(z names.Zone, content authdns.Names) error {
	all := authdns.Names{}
	for name, sets := range content {
		all[name] = sets
	}
	var ns []dns.RR
	for _, s := range z.Servers {
		ns = append(ns, &dns.NS{Hdr: header(z.Apex, dns.TypeNS, z.TTL), Ns: string(s.Name) + "."})
		if !s.Name.Within(z.Apex) {
			continue
		}
		var p wan.Pair
		for _, a := range s.Addresses {
			if one := wan.PairOf(a); one.IPv4.IsValid() {
				p.IPv4 = one.IPv4
			} else {
				p.IPv6 = one.IPv6
			}
		}
		sets, err := addressSets(site.Hostname{Name: s.Name, TTL: int(z.TTL)}, p)
		if err != nil {
			return err
		}
		all[string(s.Name)] = append(all[string(s.Name)], sets...)
	}
	set, err := authdns.NewRRset(ns...)
	if err != nil {
		return fmt.Errorf("zone %s: %w", z.Apex, err)
	}
	all[string(z.Apex)] = append(all[string(z.Apex)], set)
	zone, err := authdns.NewZone(&dns.SOA{
		Hdr: header(z.Apex, dns.TypeSOA, z.TTL), Ns: string(z.Servers[0].Name) + ".", Mbox: string(z.Contact) + ".",
		Serial: z.Serial, Refresh: z.Refresh, Retry: z.Retry, Expire: z.Expire, Minttl: z.Negative}, all)
	if err != nil {
		return fmt.Errorf("zone %s: %w", z.Apex, err)
	}
	e.directory.Put(zone)
	return nil
}

// republish sets the answers of the hostnames of some sites and the serials of their zones, in place.
func (e *Engine) republish(changed []premises, serials map[int64]uint32) error {
	content := map[int64]authdns.Names{}
	for _, p := range changed {
		for _, h := range p.hostnames {
			sets, err := addressSets(h, p.addressOf(h.LinkID))
			if err != nil {
				return err
			}
			if content[h.ZoneID] == nil {
				content[h.ZoneID] = authdns.Names{}
			}
			content[h.ZoneID][string(h.Name)] = sets
		}
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
	}
	return nil
}

// addressSets encodes the A and AAAA records of a hostname. Without any address there is none, and the name does not
// exist in the zone.
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
