package zoneedits

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// ExportZone writes a zone as a zone file. Error: store.Missing.
func (e *ZoneEdits) ExportZone(apex string, w io.Writer) error {
	z, err := e.Zone(apex)
	if err != nil {
		return err
	}
	return e.Rooms.Zones.Export(z, w)
}

// ImportZone takes the records of a zone file over into a zone; a zone that is not on record is made as the file says.
// Records that the zone has already stay; with Replace, those that the file does not have are removed. So do SOA and servers of
// a zone that is on record, but for ReplaceServers. Nothing is carried out on a dry run. Hostnames, aliases and redirects are not touched.
func (e *ZoneEdits) ImportZone(ctx context.Context, apex string, file io.Reader, how contract.ZoneImportInput) (contract.ZoneImport,
	error) {
	text, err := io.ReadAll(file) // before anybody waits for us
	if err != nil {
		return contract.ZoneImport{}, err
	}
	if how.DryRun {
		_, out, err := e.planImport(apex, text, how)
		return out, err
	}
	var out contract.ZoneImport
	err = e.Change(ctx, func() (ed changes.Edit, err error) {
		var plan zoneImport
		plan, out, err = e.planImport(apex, text, how)
		return changes.Edit{Words: "a zone file was taken over into " + string(plan.zone.Apex), Touched: plan.touched(),
			Of: zoneResource(plan.zone), Write: func(ctx context.Context, tx *store.Store) error {
				return tx.ImportZone(ctx, plan.zone, plan.add, plan.remove, plan.serial)
			}}, err
	})
	out.Carried = err == nil
	return out, err
}

// zoneImport is what a zone file brings.
type zoneImport struct {
	zone   names.Zone
	add    []names.Record
	remove []int64
	serial uint32
}

// touched is what carrying the plan out touches.
func (p zoneImport) touched() *record.Touched {
	if p.zone.ID == 0 {
		return &record.Touched{Apex: p.zone.Apex}
	}
	return &record.Touched{Zones: []int64{p.zone.ID}, AllRecords: []int64{p.zone.ID}}
}

func (e *ZoneEdits) planImport(apex string, text []byte, how contract.ZoneImportInput) (plan zoneImport, out contract.ZoneImport,
	err error) {
	z, err := e.Zone(rooms.Canonical(apex))
	var missing store.Missing
	if out.New = errors.As(err, &missing); out.New {
		name, err := names.Parse(apex)
		if err != nil {
			return plan, out, site.Flaws{{Field: "apex", Detail: err.Error()}}
		}
		z = names.Zone{Apex: name, Kind: names.Hosted}
	} else if err != nil {
		return plan, out, err
	}
	read, err := zonefile.Read(bytes.NewReader(text), z.Apex)
	var fault zonefile.Fault
	if errors.As(err, &fault) {
		return plan, out, site.Flaws{{Field: "file", Detail: fault.Error()}}
	}
	if err != nil {
		return plan, out, err
	}
	out.Zone = z.Apex
	if out.New && read.SOA == nil {
		return plan, out, site.Flaws{{Field: "file",
			Detail: fmt.Sprintf("zone %s is not on record, and the file has no SOA record to make it from", z.Apex)}}
	}
	if z.Kind == names.Hosted {
		before := z
		fromSOA(&z, read.SOA)
		serversFrom(&z, read.Records)
		if out.Servers = serverChanges(before, z); !out.New && !how.ReplaceServers {
			out.ServersKept, z = len(out.Servers) > 0, before
		}
	}
	if plan.add, plan.remove, err = e.compareFile(z, read, how.Replace, &out); err != nil {
		return plan, out, err
	}
	plan.zone = z.WithDefaults()
	if err := plan.zone.Check(); err != nil {
		return plan, out, site.Flaws{{Field: "file", Detail: err.Error()}}
	}
	if read.SOA != nil && (out.New || how.ReplaceServers) {
		plan.serial = read.SOA.Serial
	}
	return plan, out, nil
}

func fromSOA(z *names.Zone, soa *dns.SOA) {
	if soa == nil {
		return
	}
	z.Contact, z.MName = names.Name(rooms.Canonical(soa.Mbox)), names.Name(rooms.Canonical(soa.Ns))
	z.Refresh, z.Retry, z.Expire, z.Negative = soa.Refresh, soa.Retry, soa.Expire, soa.Minttl
	if z.ID == 0 {
		z.TTL = min(max(soa.Hdr.Ttl, names.MinTTL), names.MaxTTL)
	}
}

// serverChanges lists in words what a file's SOA and NS records would change of a zone.
func serverChanges(before, after names.Zone) []string {
	out := []string{}
	note := func(what, a, b string) {
		if a != b {
			out = append(out, fmt.Sprintf("%s: %s instead of %s", what, b, cmp.Or(a, "none")))
		}
	}
	servers := func(z names.Zone) string {
		var words []string
		for _, s := range z.Servers {
			word := string(s.Name)
			for _, a := range s.Addresses {
				word += " " + a.String()
			}
			words = append(words, word)
		}
		return strings.Join(words, ", ")
	}
	mname := func(z names.Zone) string {
		if z.MName == "" && len(z.Servers) > 0 {
			return string(z.Servers[0].Name)
		}
		return string(z.MName)
	}
	note("servers", servers(before), servers(after))
	note("primary (MNAME)", mname(before), mname(after))
	note("contact", string(before.Contact), string(after.Contact))
	for _, t := range []struct {
		what string
		a, b uint32
	}{
		{"refresh", before.Refresh, after.Refresh}, {"retry", before.Retry, after.Retry},
		{"expire", before.Expire, after.Expire}, {"negative", before.Negative, after.Negative},
	} {
		note(t.what, fmt.Sprint(t.a), fmt.Sprint(t.b))
	}
	return out
}

// serversFrom takes the apex's NS records over, with the addresses of those that stand inside the zone.
func serversFrom(z *names.Zone, records []names.Record) {
	var servers []names.Server
	for _, r := range records {
		if r.Name == z.Apex && r.Type == "NS" {
			servers = append(servers, names.Server{Name: names.Name(strings.TrimSuffix(r.Data, "."))})
		}
	}
	for i, s := range servers {
		for _, r := range records {
			if r.Name != s.Name || r.Type != "A" && r.Type != "AAAA" || !s.Name.Within(z.Apex) {
				continue
			}
			if a, err := netip.ParseAddr(r.Data); err == nil {
				servers[i].Addresses = append(servers[i].Addresses, a)
			}
		}
	}
	if len(servers) > 0 {
		z.Servers = servers
	}
}

// compareFile sorts the records of a file into those to add, those that are there, and those that are not taken over, and
// checks the zone as it would be.
func (e *ZoneEdits) compareFile(z names.Zone, read zonefile.File, replace bool, out *contract.ZoneImport) (add []names.Record,
	remove []int64, err error) {
	out.Added, out.Removed, out.Left = []names.Record{}, []names.Record{}, []contract.LeftOutRecord{}
	there := map[names.Record]int64{}
	for _, r := range e.Record.RecordsOf(z.ID) {
		there[r.Record()] = r.ID
	}
	final := slices.DeleteFunc(e.Rooms.Zones.Content(z), func(r names.Record) bool { _, is := there[r]; return is })
	taken := map[string]bool{}
	for _, r := range final {
		taken[string(r.Name)+" "+r.Type+" "+r.Data] = true
	}
	kept := map[int64]bool{}
	var places []zonefile.Fault
	wrong := func(at zonefile.Fault, err error) error {
		at.Detail = err.Error()
		return site.Flaws{{Field: "file", Detail: at.Error()}}
	}
	for i, r := range read.Records {
		if reason := e.leftOut(z, r, taken); reason != "" {
			out.Left = append(out.Left, contract.LeftOutRecord{Record: r, Reason: reason})
			continue
		}
		if id, has := there[r]; has {
			kept[id] = true
			out.Same++
			continue
		}
		if _, err := names.ParseOwner(string(r.Name)); err != nil && r.Name != z.Apex {
			return nil, nil, wrong(read.Places[i], err)
		}
		if err := names.CheckRecordTTL(r.TTL); err != nil {
			return nil, nil, wrong(read.Places[i], err)
		}
		add, places = append(add, r), append(places, read.Places[i])
	}
	for r, id := range there {
		switch {
		case kept[id]:
		case replace:
			remove = append(remove, id)
			out.Removed = append(out.Removed, r)
			continue
		}
		final = append(final, r)
	}
	out.Added = append(out.Added, add...)
	var at names.ContentError
	if err := names.CheckContent(z.Apex, append(slices.Clone(final), add...)); errors.As(err, &at) && at.At >= len(final) {
		return nil, nil, wrong(places[at.At-len(final)], err)
	} else if err != nil {
		return nil, nil, site.Flaws{{Field: "file", Detail: err.Error()}}
	}
	return add, remove, nil
}

// leftOut returns why a record of a file is not taken over, "" if it is.
func (e *ZoneEdits) leftOut(z names.Zone, r names.Record, taken map[string]bool) string {
	address := r.Type == "A" || r.Type == "AAAA"
	if _, h, ok := e.Record.HostnameAt(r.Name); ok && address {
		return "the name follows the address of site " + h.Site
	}
	if a, ok := e.Record.Redirect(r.Name); ok && address {
		return "the name is a redirect to " + string(a.Hostname)
	}
	inside := slices.ContainsFunc(z.Servers, func(s names.Server) bool { return s.Name == r.Name })
	switch {
	case z.Kind == names.Remote && r.Type == "NS":
		return "the zone's primary has its name servers and delegations"
	case r.Name == z.Apex && r.Type == "NS", inside && address:
		return "it is part of the zone's own servers; those of a zone on record are replaced with --replace-servers only"
	case taken[string(r.Name)+" "+r.Type+" "+r.Data]:
		return "it is there as a hostname, an alias or a redirect"
	case !slices.Contains(names.Types(), r.Type) && !strings.HasPrefix(r.Type, "TYPE"):
		return "records of type " + r.Type + " are not served; those of a signed zone are made by whoever signs it"
	}
	return ""
}
