package rooms

import (
	"fmt"
	"net/netip"
	"strings"

	"golang.org/x/net/idna"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// FindSite finds a site by its code. Error: store.Missing.
func (r *Rooms) FindSite(code string) (record.Site, error) {
	p, ok := r.Record.SiteByCode(code)
	if !ok {
		return p, store.Missing{Kind: "site", Name: code}
	}
	return p, nil
}

// FindService finds a service of a site by its name. Error: store.Missing.
func (r *Rooms) FindService(code, name string) (record.Site, site.Service, error) {
	p, err := r.FindSite(code)
	if err != nil {
		return p, site.Service{}, err
	}
	for _, s := range p.Services {
		if s.Name == name {
			return p, s, nil
		}
	}
	return p, site.Service{}, store.Missing{Kind: "service of " + p.Code, Name: name}
}

// FindDevice finds a device of a site by its name. Error: store.Missing.
func (r *Rooms) FindDevice(code, name string) (record.Site, site.Device, error) {
	p, err := r.FindSite(code)
	if err != nil {
		return p, site.Device{}, err
	}
	d, err := p.DeviceNamed(name)
	return p, d, err
}

// FindLink finds a link of a site by its label. Error: store.Missing.
func (r *Rooms) FindLink(code, label string) (record.Site, site.Link, error) {
	p, err := r.FindSite(code)
	if err != nil {
		return p, site.Link{}, err
	}
	l, err := p.LinkNamed(label)
	return p, l, err
}

// Zone returns one zone. Error: store.Missing.
func (r *Rooms) Zone(apex string) (names.Zone, error) {
	z, ok := r.Record.ZoneByApex(names.Name(apex))
	if !ok {
		return z, store.Missing{Kind: "zone", Name: apex}
	}
	return z, nil
}

// AddressText writes an address; "" for the zero Addr.
func AddressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// Canonical is a name in small letters without the final dot.
func Canonical(name string) string { return strings.TrimSuffix(strings.ToLower(name), ".") }

// RemoteZone finds a remote zone. Errors: store.Missing, site.Flaws for a hosted one.
func (r *Rooms) RemoteZone(apex string) (names.Zone, error) {
	z, err := r.Zone(apex)
	if err == nil && z.Kind != names.Remote {
		err = site.Flaws{{Field: "apex", Detail: fmt.Sprintf("zone %s is hosted here: nothing of it is pushed", apex)}}
	}
	return z, err
}

// HoldAt writes the addresses that a hostname is held at; "" when it follows its link.
func HoldAt(h site.Hostname) string {
	if h.HoldBy == "" {
		return ""
	}
	return h.Hold.String()
}

// Shown is a name as a person reads it, "" if that is its ASCII form.
func Shown(name names.Name) string {
	if !strings.Contains(string(name), "xn--") {
		return ""
	}
	text, err := International.ToUnicode(string(name))
	if err != nil || text == string(name) {
		return ""
	}
	return text
}

// HostnamesOf returns the hostnames that follow a link.
func (r *Rooms) HostnamesOf(linkID int64) map[string]bool {
	out := map[string]bool{}
	p, _, _ := r.Record.SiteOfLink(linkID)
	for _, h := range p.Hostnames {
		if l, ok := p.Followed(h.LinkID); ok && l.ID == linkID {
			out[string(h.Name)] = true
		}
	}
	return out
}

// International is the profile of RFC 5891 for names to be recorded.
var International = idna.New(idna.MapForLookup(), idna.Transitional(false), idna.StrictDomainName(true), idna.BidiRule(),
	idna.CheckJoiners(true))
