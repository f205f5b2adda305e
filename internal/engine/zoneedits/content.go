package zoneedits

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// AddAlias records a name that stands for a hostname.
func (e *ZoneEdits) AddAlias(ctx context.Context, in contract.AliasInput) (contract.Alias, error) {
	var name names.Name
	err := e.Change(ctx, func() (changes.Edit, error) {
		var f site.Flaws
		var z names.Zone
		name, z = e.placed(in.Name, &f)
		h, err := e.Hostname(ctx, rooms.Canonical(in.Hostname))
		f.Note("hostname", err)
		if in.TTL == 0 {
			in.TTL = int(z.TTL)
		}
		if z.ID != 0 {
			f.Note("ttl_seconds", names.CheckTTL(in.TTL))
			f.Note("name", e.Rooms.Zones.Check(z, []names.Record{{Name: name, Type: "CNAME", Data: string(h.Name) + "."}}, zones.LeaveNone))
		}
		a := site.Alias{ZoneID: z.ID, HostnameID: h.ID, Name: name, TTL: in.TTL}
		return changes.Edit{Site: h.Site, Words: "alias " + string(name) + " recorded",
			Touched: &record.Touched{Sites: []int64{h.SiteID}, Parts: record.Aliases, At: []names.Name{name}},
			Write:   func(ctx context.Context, tx *store.Store) error { return tx.AddAlias(ctx, a) }}, f.Err()
	})
	if err != nil {
		return contract.Alias{}, err
	}
	return e.Alias(ctx, string(name))
}

// RemoveAlias removes an alias.
func (e *ZoneEdits) RemoveAlias(ctx context.Context, name string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		a, err := e.Alias(ctx, name)
		return changes.Edit{Site: a.Site, Words: "alias " + name + " removed",
			Of:    changes.Resource{Kind: "alias", Name: name, ID: a.ID, Revision: a.Revision, Tag: a.Tag()},
			Write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveAlias(ctx, a.Alias) }}, err
	})
}

// AddZoneRecord puts a record into a zone.
func (e *ZoneEdits) AddZoneRecord(ctx context.Context, apex string, in contract.RecordInput) (contract.ZoneRecord, error) {
	var r names.Record
	err := e.Change(ctx, func() (changes.Edit, error) {
		z, err := e.Zone(apex)
		if err != nil {
			return changes.Edit{}, err
		}
		r, err = e.checkedRecord(z, in)
		return changes.Edit{Words: fmt.Sprintf("%s record of %s recorded", r.Type, r.Name), Touched: touchedRecords(z.ID, r.Name),
			Write: func(ctx context.Context, tx *store.Store) error {
				return tx.ChangeZoneRecords(ctx, z.ID, []names.Record{r}, nil, store.Group{})
			}}, err
	})
	if err != nil {
		return contract.ZoneRecord{}, err
	}
	z, err := e.Zone(apex)
	for _, one := range e.Record.RecordsAt(z.ID, r.Name) {
		if one.Record() == r {
			return contract.ZoneRecord{ID: one.ID, Record: r}, nil
		}
	}
	return contract.ZoneRecord{}, err
}

// touchedRecords is what an edit of records at some names of a zone touches.
func touchedRecords(zoneID int64, at ...names.Name) *record.Touched {
	return &record.Touched{Records: map[int64][]names.Name{zoneID: at}}
}

func (e *ZoneEdits) checkedRecord(z names.Zone, in contract.RecordInput) (names.Record, error) {
	var f site.Flaws
	name, err := names.ParseOwner(string(in.Name))
	f.Note("name", err)
	r := names.Record{Name: name, Type: strings.ToUpper(strings.TrimSpace(in.Type)), TTL: int(z.TTL), Data: strings.TrimSpace(in.Data)}
	if in.TTL != nil {
		r.TTL = *in.TTL
	}
	f.Note("ttl_seconds", names.CheckRecordTTL(r.TTL))
	if !slices.Contains(names.Types(), r.Type) && !strings.HasPrefix(r.Type, "TYPE") {
		f.Note("type", fmt.Errorf("%q cannot be recorded; it is one of %s, or TYPE and a number with data as RFC 3597 writes it",
			in.Type, strings.Join(names.Types(), ", ")))
	}
	if strings.ContainsAny(r.Data, "\n\r") {
		f.Note("data", fmt.Errorf("has more than one line"))
	}
	if err := f.Err(); err != nil {
		return r, err
	}
	rr, err := zonefile.Below(r, string(z.Apex)+".")
	if err != nil {
		f.Note("data", err)
		return r, f.Err()
	}
	if known := dns.Type(rr.Header().Rrtype).String(); known != r.Type {
		f.Note("type", fmt.Errorf("%s has a name; write it as %s", r.Type, known))
		return r, f.Err()
	}
	r.Data = zonefile.Data(rr)
	if z.Kind == names.Remote && r.Type == "NS" {
		f.Note("type", fmt.Errorf("zone %s is remote: its primary has its name servers and delegations", z.Apex))
	}
	if _, h, ok := e.Record.HostnameAt(r.Name); ok && (r.Type == "A" || r.Type == "AAAA") {
		f.Note("name", fmt.Errorf("%s follows the address of site %s; its address records cannot be entered by hand", r.Name, h.Site))
	}
	if to, ok := e.Record.Redirect(r.Name); ok && (r.Type == "A" || r.Type == "AAAA") {
		f.Note("name", fmt.Errorf("%s is a redirect to %s", r.Name, to.Hostname))
	}
	if r.Type == "NS" && r.Name == z.Apex {
		f.Note("name", fmt.Errorf("the zone's own servers are set with the zone: inkpost zone edit %s --ns", z.Apex))
	}
	f.Note("name", e.Rooms.Zones.Check(z, []names.Record{r}, zones.LeaveNone))
	return r, f.Err()
}

// RemoveZoneRecord removes a record that somebody put into a zone.
func (e *ZoneEdits) RemoveZoneRecord(ctx context.Context, apex string, id int64) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		z, err := e.Zone(apex)
		if err != nil {
			return changes.Edit{}, err
		}
		list := e.Record.RecordsOf(z.ID)
		i := slices.IndexFunc(list, func(r store.ZoneRecord) bool { return r.ID == id })
		if i < 0 {
			return changes.Edit{}, store.Missing{Kind: "record of " + apex, Name: fmt.Sprint(id)}
		}
		return changes.Edit{Words: "a record of " + apex + " removed", Touched: touchedRecords(z.ID, list[i].Name),
			Write: func(ctx context.Context, tx *store.Store) error {
				return tx.ChangeZoneRecords(ctx, z.ID, nil, []int64{id}, store.Group{})
			}}, err
	})
}

// AddSigningKey makes a TSIG key and shows its secret: for zone transfers, or for updates of a site's own names.
func (e *ZoneEdits) AddSigningKey(ctx context.Context, in contract.SigningKeyInput) (contract.SigningKey, error) {
	var f site.Flaws
	name, err := names.Parse(in.Name)
	f.Note("name", err)
	if in.Algorithm == "" {
		in.Algorithm = signingAlgorithms[0]
	}
	if !slices.Contains(signingAlgorithms, in.Algorithm) {
		f.Note("algorithm", fmt.Errorf("%q is unknown; it is one of %s", in.Algorithm, strings.Join(signingAlgorithms, ", ")))
	}
	f.Note("may_announce", access.CheckPrefixes(in.MayAnnounce))
	var siteID int64
	if in.Site != "" {
		p, err := e.SiteSeen(ctx, in.Site)
		f.Note("site", err)
		siteID = p.ID
	}
	if raw, err := base64.StdEncoding.DecodeString(in.Secret); err != nil || in.Secret != "" && len(raw) < 16 {
		f.Note("secret", fmt.Errorf("is not the base64 of 16 octets or more"))
	}
	if err := f.Err(); err != nil {
		return contract.SigningKey{}, err
	}
	k := contract.SigningKey{Name: string(name), Algorithm: in.Algorithm, Site: strings.ToUpper(in.Site), Created: e.Now(),
		Secret: in.Secret, MayAnnounce: in.MayAnnounce}
	if k.Secret == "" {
		raw := make([]byte, 32)
		_, _ = rand.Read(raw) // never fails
		k.Secret = base64.StdEncoding.EncodeToString(raw)
	}
	return k, e.Change(ctx, func() (changes.Edit, error) {
		return changes.Edit{Site: k.Site, Words: "signing key " + k.Name + " made",
			Touched: &record.Touched{Signing: []string{k.Name}}, Write: func(ctx context.Context, tx *store.Store) error {
				return tx.AddSigningKey(ctx, k.Name, k.Algorithm, k.Secret, siteID, k.MayAnnounce)
			}}, nil
	})
}

// RemoveSigningKey makes a TSIG key unknown at once.
func (e *ZoneEdits) RemoveSigningKey(ctx context.Context, name string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		return changes.Edit{Words: "signing key " + name + " removed",
			Touched: &record.Touched{Signing: []string{rooms.Canonical(name)}}, Write: func(ctx context.Context, tx *store.Store) error {
				return tx.RemoveSigningKey(ctx, rooms.Canonical(name))
			}}, nil
	})
}

// secondaryFields reads who may have a zone and who is reported changes.
func (e *ZoneEdits) secondaryFields(z *names.Zone, in contract.ZoneInput, f *site.Flaws) {
	z.TransferTo, z.Notify, z.TransferKey = nil, nil, rooms.Canonical(in.TransferKey)
	for _, text := range in.TransferTo {
		p, err := netip.ParsePrefix(text)
		if a, e := netip.ParseAddr(text); e == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			f.Note("transfer_to", fmt.Errorf("%q is neither an address nor a prefix such as 198.51.100.0/24", text))
			continue
		}
		z.TransferTo = append(z.TransferTo, p.Masked())
	}
	z.Notify = servers(in.Notify, "notify", f)
	if k, ok := e.Record.SigningKey(z.TransferKey); z.TransferKey != "" && (!ok || k.SiteID != 0) {
		f.Note("transfer_key", fmt.Errorf("there is no signing key %q for transfers; make one: inkpost signing-key add %s",
			z.TransferKey, z.TransferKey))
	}
}

// servers reads name servers, ADDRESS or ADDRESS:PORT each.
func servers(list []string, field string, f *site.Flaws) (out []netip.AddrPort) {
	for _, text := range list {
		to, err := netip.ParseAddrPort(text)
		if a, e := netip.ParseAddr(text); e == nil {
			to, err = netip.AddrPortFrom(a, 53), nil
		}
		if err != nil {
			f.Note(field, fmt.Errorf("%q is neither an address nor an address with a port such as 198.51.100.2:53", text))
			continue
		}
		out = append(out, to)
	}
	return out
}

// remoteFields reads where a remote zone is pushed to, and what all zones have beside their content.
func (e *ZoneEdits) remoteFields(z *names.Zone, in contract.ZoneInput, f *site.Flaws) {
	z.AlsoAsk = servers(in.AlsoAsk, "also_ask", f)
	z.Template = strings.TrimSpace(in.Template)
	f.Note("template", names.CheckTemplate(z.Template, z.Apex))
	if z.Kind != "" && z.Kind != names.Hosted && z.Kind != names.Remote {
		f.Note("kind", fmt.Errorf("%q is unknown; it is %s or %s", z.Kind, names.Hosted, names.Remote))
	}
	z.Primary, z.Transport, z.PrimaryKey, z.Reassert = netip.AddrPort{}, in.Transport, rooms.Canonical(in.PrimaryKey), in.Reassert
	if in.Primary != "" {
		if list := servers([]string{in.Primary}, "primary", f); len(list) == 1 {
			z.Primary = list[0]
		}
	}
	if k, ok := e.Record.SigningKey(z.PrimaryKey); z.PrimaryKey != "" && (!ok || k.SiteID != 0) {
		f.Note("primary_key", fmt.Errorf("there is no signing key %q for this; record the primary's: inkpost signing-key add %s "+
			"--secret-file FILE", z.PrimaryKey, z.PrimaryKey))
	}
}

// AllowSigningKey sets the prefixes in which updates with a TSIG key may set addresses that are not their sender's.
func (e *ZoneEdits) AllowSigningKey(ctx context.Context, name string, mayAnnounce []netip.Prefix) error {
	if err := access.CheckPrefixes(mayAnnounce); err != nil {
		return site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	return e.Change(ctx, func() (changes.Edit, error) {
		return changes.Edit{Words: "the prefixes that signing key " + name + " may announce were changed",
			Touched: &record.Touched{Signing: []string{rooms.Canonical(name)}},
			Write: func(ctx context.Context, tx *store.Store) error {
				return tx.AllowSigningKey(ctx, rooms.Canonical(name), mayAnnounce)
			}}, nil
	})
}

// signingAlgorithms are the ones that keys are made for (RFC 8945 section 6).
var signingAlgorithms = []string{"hmac-sha256", "hmac-sha512"}
