package zoneedits

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// HostnameResource says which revision of a hostname an edit is of.
func HostnameResource(h site.Hostname) changes.Resource {
	return changes.Resource{Kind: "hostname", Name: string(h.Name), ID: h.ID, Revision: h.Revision, Tag: h.Tag()}
}

// HostnameInputOf returns a hostname as a person would enter it.
func HostnameInputOf(h site.Hostname) contract.HostnameInput {
	// what a person asks for is read over it
	return contract.HostnameInput{Name: string(h.Name), Site: h.Site, Link: h.Link, TTL: h.TTL, Extras: slices.Clone(h.Extras),
		Mail: string(h.Mail), Device: h.Device}
}

// AddHostname records a hostname in the zone that it fits in.
func (e *ZoneEdits) AddHostname(ctx context.Context, in contract.HostnameInput) (contract.Hostname, error) {
	var h site.Hostname
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, missing := e.SiteSeen(ctx, in.Site)
		var err error
		if h, err = e.NewHostname(p, missing, in); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: p.Code, Words: "hostname " + string(h.Name) + " recorded", Touched: touchedHostname(h),
			Write: func(ctx context.Context, tx *store.Store) error { _, _, err := tx.PutHostname(ctx, h); return err }}, nil
	})
	if err != nil {
		return contract.Hostname{}, err
	}
	return e.Hostname(ctx, string(h.Name))
}

// touchedHostname is what an edit of a hostname touches.
func touchedHostname(h site.Hostname) *record.Touched {
	return &record.Touched{Sites: []int64{h.SiteID}, Parts: record.Hostnames, At: []names.Name{h.Name}}
}

// NewHostname reads what a person entered of a hostname of a site, which may be missing, in the zone that it fits in. Error: site.Flaws.
func (e *ZoneEdits) NewHostname(p record.Site, missing error, in contract.HostnameInput) (site.Hostname, error) {
	var f site.Flaws
	name, zone := e.placed(in.Name, &f)
	if in.TTL == 0 {
		in.TTL = int(zone.TTL)
	}
	return e.ReadHostname(p, missing, site.Hostname{Name: name, ZoneID: zone.ID, TTL: in.TTL}, in, f)
}

// EditHostname changes which link a hostname follows, and its TTL.
func (e *ZoneEdits) EditHostname(ctx context.Context, name string, merge changes.Merge[contract.HostnameInput]) (contract.Hostname, error) {
	err := e.Change(ctx, func() (changes.Edit, error) {
		now, err := e.Hostname(ctx, name)
		if err != nil {
			return changes.Edit{}, err
		}
		of := HostnameResource(now.Hostname)
		in, err := changes.Merged(ctx, e.Changes, of, HostnameInputOf(now.Hostname), merge)
		if err != nil {
			return changes.Edit{}, err
		}
		var f site.Flaws
		if in.Name != string(now.Name) {
			f.Note("name", fmt.Errorf("a hostname keeps its name; add %q and remove %q", in.Name, now.Name))
		}
		if !strings.EqualFold(in.Site, now.Site) {
			f.Note("site", fmt.Errorf("a hostname stays with its site %s; remove it there first", now.Site))
		}
		h := now.Hostname
		h.TTL = in.TTL
		p, missing := e.SiteSeen(ctx, in.Site)
		if h, err = e.ReadHostname(p, missing, h, in, f); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: p.Code, Words: "hostname " + string(h.Name) + " edited", Touched: touchedHostname(h), Of: of,
			Before: HostnameInputOf(now.Hostname), After: in,
			Write: func(ctx context.Context, tx *store.Store) error { _, _, err := tx.PutHostname(ctx, h); return err }}, nil
	})
	if err != nil {
		return contract.Hostname{}, err
	}
	return e.Hostname(ctx, name)
}

// ReadHostname reads what a person entered of a hostname of a site, which may be missing, beside its name. Error: site.Flaws.
func (e *ZoneEdits) ReadHostname(p record.Site, missing error, h site.Hostname, in contract.HostnameInput, f site.Flaws) (site.Hostname,
	error) {
	e.extraFields(&h, in, &f)
	if h.ZoneID != 0 {
		f.Note("ttl_seconds", names.CheckTTL(h.TTL))
	}
	f.Note("site", missing)
	h.SiteID, h.LinkID = p.ID, 0
	if in.Link != "" && missing == nil {
		l, err := p.LinkNamed(in.Link)
		f.Note("link", err)
		h.LinkID = l.ID
	}
	h.DeviceID = 0
	if in.Device != "" && missing == nil {
		d, err := p.DeviceNamed(strings.ToLower(in.Device))
		f.Note("device", err)
		h.DeviceID = d.ID
	}
	return h, f.Err()
}

// extraFields reads what a hostname has beside its addresses, and checks all of it against the rest of its zone.
func (e *ZoneEdits) extraFields(h *site.Hostname, in contract.HostnameInput, f *site.Flaws) {
	h.Extras, h.Mail = nil, ""
	if in.Mail != "" {
		mail, err := names.Parse(in.Mail)
		f.Note("mail", err)
		h.Mail = mail
	}
	for _, label := range in.Extras {
		label = strings.ToLower(strings.TrimSpace(label))
		if _, err := names.ParseOwner(label + "." + string(h.Name)); err != nil || strings.Contains(label, ".") {
			f.Note("extras", fmt.Errorf("%q is not a label below the name; www, mail and * are examples", label))
			continue
		}
		h.Extras = append(h.Extras, label)
	}
	for _, name := range h.Owners() {
		if _, taken := e.Record.Redirect(name); taken {
			f.Note("name", fmt.Errorf("%s is a redirect; remove that first", name))
		}
	}
	z := e.Record.Zone(h.ZoneID)
	if z.ID == 0 {
		return
	}
	own := func(r names.Record) bool { // what the hostname has on record already
		return h.ID != 0 && (r.Name == h.Name || r.Name.Within(h.Name)) && r.Data == "" || h.ID != 0 && r.Name == h.Name && r.Type == "MX"
	}
	if _, taken, ok := e.Record.HostnameAt(h.Name); h.ID == 0 && ok && taken.Name == h.Name {
		return // the name is taken, which is said in other words
	}
	f.Note("name", e.Rooms.Zones.Check(z, h.Records(), own))
}

// placed reads a name that a person typed and finds the zone that it belongs in.
func (e *ZoneEdits) placed(text string, f *site.Flaws) (names.Name, names.Zone) {
	text, err := ascii(strings.TrimSpace(text))
	f.Note("name", err)
	if err != nil {
		return "", names.Zone{}
	}
	name, err := names.Parse(text)
	if err != nil {
		f.Note("name", err)
		return name, names.Zone{}
	}
	z, err := e.zoneFor(name)
	f.Note("name", err)
	return name, z
}

// zoneFor finds the zone that a hostname belongs in, and refuses the names of the zone's own servers.
func (e *ZoneEdits) zoneFor(name names.Name) (names.Zone, error) {
	zones := e.Record.Zones()
	apexes := make([]names.Name, len(zones))
	for i, z := range zones {
		apexes[i] = z.Apex
	}
	apex, ok := names.ZoneFor(name, apexes)
	if !ok {
		if len(apexes) == 0 {
			return names.Zone{}, fmt.Errorf("no zone is on record yet; add one: inkpost zone add ZONE --ns ns1.ZONE=ADDRESS")
		}
		return names.Zone{}, fmt.Errorf("%s is below none of the zones on record: %s", name, joined(apexes))
	}
	for _, z := range zones {
		if z.Apex != apex {
			continue
		}
		for _, s := range z.Servers {
			if s.Name == name {
				return z, fmt.Errorf("%s is a name server of zone %s", name, apex)
			}
		}
		return z, nil
	}
	return names.Zone{}, nil
}

func joined(list []names.Name) string {
	words := make([]string, len(list))
	for i, n := range list {
		words[i] = string(n)
	}
	return strings.Join(words, ", ")
}

// RemoveHostname removes a hostname; the zone answers "no such name" at once.
func (e *ZoneEdits) RemoveHostname(ctx context.Context, name string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		h, err := e.Hostname(ctx, name)
		return changes.Edit{Site: h.Site, Words: "hostname " + name + " removed", Of: HostnameResource(h.Hostname),
			Write: func(ctx context.Context, tx *store.Store) error {
				_, err := tx.RemoveHostname(ctx, h.Hostname, e.Removal(ctx))
				return err
			}}, err
	})
}

func zoneResource(z names.Zone) changes.Resource {
	return changes.Resource{Kind: "zone", Name: string(z.Apex), ID: z.ID, Revision: z.Revision, Tag: z.Tag()}
}

// zoneInput returns a zone as a person would enter it.
func zoneInput(z names.Zone) contract.ZoneInput {
	in := contract.ZoneInput{Apex: string(z.Apex), Contact: string(z.Contact), TTL: int(z.TTL), TransferKey: z.TransferKey,
		Template: z.Template,
		Refresh:  int(z.Refresh), Retry: int(z.Retry), Expire: int(z.Expire), Negative: int(z.Negative), Kind: string(z.Kind),
		Transport: z.Transport, PrimaryKey: z.PrimaryKey, Reassert: z.Reassert}
	if z.Primary.IsValid() {
		in.Primary = z.Primary.String()
	}
	for _, at := range z.AlsoAsk {
		in.AlsoAsk = append(in.AlsoAsk, at.String())
	}
	for _, p := range z.TransferTo {
		in.TransferTo = append(in.TransferTo, p.String())
	}
	for _, to := range z.Notify {
		in.Notify = append(in.Notify, to.String())
	}
	for _, s := range z.Servers {
		text, _ := s.MarshalText() // never fails
		in.Servers = append(in.Servers, string(text))
	}
	return in
}

// AddZone records a hosted zone; it is answered at once.
func (e *ZoneEdits) AddZone(ctx context.Context, in contract.ZoneInput) (names.Zone, error) {
	var z names.Zone
	err := e.Change(ctx, func() (changes.Edit, error) {
		apex, err := names.Parse(in.Apex)
		if err != nil {
			return changes.Edit{}, site.Flaws{{Field: "apex", Detail: err.Error()}}
		}
		z, err = e.readZone(names.Zone{Apex: apex, Kind: names.ZoneKind(in.Kind)}, in)
		return changes.Edit{Words: "zone " + string(apex) + " recorded", Touched: &record.Touched{Apex: apex},
			Write: func(ctx context.Context, tx *store.Store) error { _, err := tx.PutZone(ctx, z); return err }}, err
	})
	if err != nil {
		return z, err
	}
	return e.Zone(string(z.Apex))
}

// EditZone changes a zone's contact, TTL and servers.
func (e *ZoneEdits) EditZone(ctx context.Context, apex string, merge changes.Merge[contract.ZoneInput]) (names.Zone, error) {
	err := e.Change(ctx, func() (changes.Edit, error) {
		now, err := e.Zone(apex)
		if err != nil {
			return changes.Edit{}, err
		}
		in, err := changes.Merged(ctx, e.Changes, zoneResource(now), zoneInput(now), merge)
		if err != nil {
			return changes.Edit{}, err
		}
		if in.Apex != apex {
			return changes.Edit{}, site.Flaws{{Field: "apex", Detail: "a zone keeps its apex; add another zone"}}
		}
		if in.Kind != string(now.Kind) {
			return changes.Edit{}, site.Flaws{{Field: "kind", Detail: fmt.Sprintf("a zone stays %s; remove it and add another", now.Kind)}}
		}
		z, err := e.readZone(now, in)
		return changes.Edit{Words: "zone " + apex + " edited", Touched: &record.Touched{Zones: []int64{z.ID}}, Of: zoneResource(now),
			Before: zoneInput(now), After: in,
			Write: func(ctx context.Context, tx *store.Store) error { _, err := tx.PutZone(ctx, z); return err }}, err
	})
	if err != nil {
		return names.Zone{}, err
	}
	return e.Zone(apex)
}

// readZone reads what a person entered of a zone.
func (e *ZoneEdits) readZone(z names.Zone, in contract.ZoneInput) (names.Zone, error) {
	var f site.Flaws
	z.Contact, z.Servers, z.TTL = "", nil, uint32(max(in.TTL, 0))
	timers := names.Timers{Refresh: in.Refresh, Retry: in.Retry, Expire: in.Expire, Negative: in.Negative}
	for field, err := range timers.Check() {
		f.Note(field, err)
	}
	if len(f) == 0 {
		z = timers.On(z)
	}
	if in.TTL < 0 {
		f.Note("ttl_seconds", names.CheckTTL(in.TTL))
	}
	if in.Contact != "" {
		contact, err := names.Parse(strings.Replace(in.Contact, "@", ".", 1))
		f.Note("contact", err)
		z.Contact = contact
	}
	for _, s := range in.Servers {
		server, err := names.ParseServer(s)
		f.Note("servers", err)
		at := slices.IndexFunc(z.Servers, func(one names.Server) bool { return one.Name == server.Name })
		if at < 0 { // a server with two addresses may be written twice
			z.Servers = append(z.Servers, server)
			continue
		}
		z.Servers[at].Addresses = append(z.Servers[at].Addresses, server.Addresses...)
	}
	e.secondaryFields(&z, in, &f)
	e.remoteFields(&z, in, &f)
	z = z.WithDefaults()
	if len(f) == 0 {
		f.Note(map[names.ZoneKind]string{names.Hosted: "servers", names.Remote: "primary"}[z.Kind], z.Check())
	}
	return z, f.Err()
}

// RemoveZone removes a zone in which no hostname lives; it is refused from now on.
func (e *ZoneEdits) RemoveZone(ctx context.Context, apex string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		z, err := e.Zone(apex)
		return changes.Edit{Words: "zone " + apex + " removed", Touched: &record.Touched{Zones: []int64{z.ID}}, Of: zoneResource(z),
			Write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveZone(ctx, z) }}, err
	})
}
