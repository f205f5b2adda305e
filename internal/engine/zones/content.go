package zones

import (
	"fmt"
	"io"
	"net/netip"
	"slices"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// Content lists all records of a zone; those whose addresses move have no data.
func (z *Zones) Content(zone names.Zone) []names.Record {
	out := serverRecords(zone)
	for _, p := range z.record.Sites() {
		for _, h := range p.Hostnames {
			if h.ZoneID == zone.ID {
				out = append(out, h.Records()...)
			}
		}
	}
	for _, r := range z.record.Redirects() {
		if r.ZoneID == zone.ID {
			out = append(out, z.redirectRecords(r.Name, r.TTL)...)
		}
	}
	for _, a := range z.record.Aliases() {
		if a.ZoneID == zone.ID {
			out = append(out, names.Record{Name: a.Name, Type: "CNAME", TTL: a.TTL, Data: string(a.Hostname) + "."})
		}
	}
	for _, r := range z.record.RecordsOf(zone.ID) {
		out = append(out, r.Record())
	}
	return out
}

// ContentAt lists the records of a zone at one name, as Content does, without looking at the whole zone.
func (z *Zones) ContentAt(zone names.Zone, name names.Name) (out []names.Record) {
	isServer := slices.ContainsFunc(zone.Servers, func(s names.Server) bool { return s.Name == name })
	if name == zone.Apex || isServer {
		for _, r := range serverRecords(zone) {
			if r.Name == name {
				out = append(out, r)
			}
		}
	}
	if _, h, ok := z.record.HostnameAt(name); ok && h.ZoneID == zone.ID {
		for _, r := range h.Records() {
			if r.Name == name {
				out = append(out, r)
			}
		}
	}
	if r, ok := z.record.Redirect(name); ok && r.ZoneID == zone.ID {
		out = append(out, z.redirectRecords(r.Name, r.TTL)...)
	}
	if a, ok := z.record.Alias(name); ok && a.ZoneID == zone.ID {
		out = append(out, names.Record{Name: a.Name, Type: "CNAME", TTL: a.TTL, Data: string(a.Hostname) + "."})
	}
	for _, r := range z.record.RecordsAt(zone.ID, name) {
		out = append(out, r.Record())
	}
	return out
}

func serverRecords(zone names.Zone) (out []names.Record) {
	for _, s := range zone.Servers {
		out = append(out, names.Record{Name: zone.Apex, Type: "NS", TTL: int(zone.TTL), Data: string(s.Name) + "."})
		for _, a := range s.Addresses {
			if s.Name.Within(zone.Apex) {
				out = append(out, names.Record{Name: s.Name, Type: addressType(a), TTL: int(zone.TTL), Data: a.String()})
			}
		}
	}
	return out
}

func (z *Zones) redirectRecords(name names.Name, ttl int) (out []names.Record) {
	for _, a := range z.redirectAt {
		out = append(out, names.Record{Name: name, Type: addressType(a), TTL: ttl, Data: a.String()})
	}
	return out
}

func addressType(a netip.Addr) string {
	if a.Is4() {
		return "A"
	}
	return "AAAA"
}

// Check says what is wrong with a zone once some records are added to it; leaving out those that leave reports true for. Error:
// names.ContentError.
func (z *Zones) Check(zone names.Zone, added []names.Record, leave func(names.Record) bool) error {
	at := func(name names.Name) []names.Record {
		return slices.DeleteFunc(z.ContentAt(zone, name), leave)
	}
	below := func(top names.Name) []names.Record {
		return slices.DeleteFunc(z.Content(zone), func(r names.Record) bool { return !r.Name.Within(top) || leave(r) })
	}
	return names.CheckAdded(zone.Apex, added, at, below)
}

// LeaveNone is Check's leave for an addition that replaces nothing.
func LeaveNone(names.Record) bool { return false }

// Wanted returns the records that a name of a zone should have now, addresses included.
func (z *Zones) Wanted(zone names.Zone, name names.Name) []names.Record {
	out := slices.DeleteFunc(z.ContentAt(zone, name), func(r names.Record) bool { return r.Data == "" })
	if p, h, ok := z.record.HostnameAt(name); ok && h.ZoneID == zone.ID {
		out = append(out, addressRecords(name, z.TTLOf(p, h), p.AnswerOf(h))...)
	}
	return out
}

// WantedAll is Wanted for every name of a zone.
func (z *Zones) WantedAll(zone names.Zone) map[names.Name][]names.Record {
	out := map[names.Name][]names.Record{}
	for _, r := range z.Full(zone) {
		out[r.Name] = append(out[r.Name], r)
	}
	return out
}

// Full lists all records of a zone as they should be answered now.
func (z *Zones) Full(zone names.Zone) (out []names.Record) {
	out = slices.DeleteFunc(z.Content(zone), func(r names.Record) bool { return r.Data == "" })
	for _, p := range z.record.Sites() {
		for _, h := range p.Hostnames {
			if h.ZoneID != zone.ID {
				continue
			}
			for _, name := range h.Owners() {
				out = append(out, addressRecords(name, z.TTLOf(p, h), p.AnswerOf(h))...)
			}
		}
	}
	return out
}

// Export writes a zone as a zone file (RFC 1035 section 5), with the addresses as they are now. The file of a remote zone has what is
// pushed there, and no SOA record. Errors: those of w.
func (z *Zones) Export(zone names.Zone, w io.Writer) error {
	if zone.Kind == names.Remote {
		return zonefile.Write(w, zone.Apex, nil, z.Full(zone))
	}
	if err := zonefile.Write(w, zone.Apex, soaOf(zone), z.Full(zone)); err != nil {
		return fmt.Errorf("zone %s: %w", zone.Apex, err)
	}
	return nil
}
