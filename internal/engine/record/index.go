package record

import (
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/stun"
)

// siteRows is everything on record that belongs to one site.
type siteRows struct {
	site      site.Site
	links     []site.Link
	hostnames []site.Hostname
	devices   []site.Device
	services  []site.Service
	aliases   []site.Alias
	redirects []site.Redirect
	keys      []store.Key // of its links
	signing   []store.SigningKey
	parts     Parts        // that were read, where the others, its keys among them, were not
	at        []names.Name // the only ones at which hostnames and aliases were read
}

// rows is a site as it was read, but for its keys.
func (p Site) rows() siteRows {
	rows := siteRows{site: p.Site, hostnames: p.Hostnames, devices: p.Devices, services: p.Services, aliases: p.Aliases,
		redirects: p.Redirects}
	for _, l := range p.Links {
		rows.links = append(rows.links, *l)
	}
	return rows
}

// with returns the rows with those parts of another that were read.
func (rows siteRows) with(read siteRows) siteRows {
	if read.parts&Hostnames != 0 {
		rows.hostnames = besides(rows.hostnames, read.at, read.hostnames, func(h site.Hostname) names.Name { return h.Name })
	}
	if read.parts&Devices != 0 {
		rows.devices = read.devices
	}
	if read.parts&Services != 0 {
		rows.services = read.services
	}
	if read.parts&Aliases != 0 {
		rows.aliases = besides(rows.aliases, read.at, read.aliases, func(a site.Alias) names.Name { return a.Name })
	}
	if read.parts&Redirects != 0 {
		rows.redirects = read.redirects
	}
	if read.parts&Links != 0 {
		rows.links = read.links
	}
	if read.parts&Own != 0 {
		rows.site = read.site
	}
	return rows
}

// besides puts what was read at some names in the place of what was there; without names, of all. Both lists are in order of name.
func besides[T any](was []T, at []names.Name, read []T, name func(T) names.Name) []T {
	if len(at) == 0 {
		return read
	}
	out := make([]T, 0, len(was)+len(read))
	for _, one := range was { // not in place: readers may hold the list
		if !slices.Contains(at, name(one)) {
			out = append(out, one)
		}
	}
	out = append(out, read...)
	slices.SortFunc(out, func(a, b T) int { return strings.Compare(string(name(a)), string(name(b))) })
	return out
}

func newSite(rows siteRows) Site {
	p := Site{Site: rows.site, Hostnames: rows.hostnames, Devices: rows.devices, Services: rows.services, Aliases: rows.aliases,
		Redirects: rows.redirects}
	if len(rows.links) > 0 {
		p.place = make(map[int64]int, len(rows.links))
	}
	for _, l := range rows.links {
		p.place[l.ID] = len(p.Links)
		p.Links = append(p.Links, &l)
	}
	if len(rows.hostnames) > 0 {
		p.followers = map[int64][]site.Hostname{}
	}
	for _, h := range rows.hostnames {
		p.followers[h.LinkID] = append(p.followers[h.LinkID], h)
	}
	return p
}

// put enters a site that is not there.
func (c *content) put(p Site) {
	c.sites[p.ID], c.codes[p.Code] = p, p.ID
	for _, l := range p.Links {
		c.links[l.ID] = p.ID
	}
	for i, h := range p.Hostnames {
		for _, name := range h.Owners() {
			c.hostnames[name] = hostnamePlace{p.ID, i}
		}
	}
	for _, a := range p.Aliases {
		c.aliases[a.Name] = a
	}
	for _, r := range p.Redirects {
		c.redirects[r.Name] = r
	}
}

// drop takes a site out with everything that belongs to it, but for its keys.
func (c *content) drop(p Site) {
	delete(c.sites, p.ID)
	delete(c.codes, p.Code)
	for _, l := range p.Links {
		delete(c.links, l.ID)
	}
	for _, h := range p.Hostnames {
		for _, name := range h.Owners() {
			delete(c.hostnames, name)
		}
	}
	for _, a := range p.Aliases {
		delete(c.aliases, a.Name)
	}
	for _, r := range p.Redirects {
		delete(c.redirects, r.Name)
	}
}

// resort puts the site IDs in order of code after one site took the place of another of the same ID; either may be missing.
func (c *content) resort(before, after Site) {
	if before.Code == after.Code {
		return
	}
	find := func(code string) (int, bool) {
		return slices.BinarySearchFunc(c.sorted, code, func(id int64, code string) int { return strings.Compare(c.sites[id].Code, code) })
	}
	c.sorted = slices.Clone(c.sorted)
	if i := slices.Index(c.sorted, before.ID); before.ID != 0 && i >= 0 {
		c.sorted = slices.Delete(c.sorted, i, i+1)
	}
	if after.ID != 0 {
		i, _ := find(after.Code)
		c.sorted = slices.Insert(c.sorted, i, after.ID)
	}
}

func (c *content) putKey(k store.Key) {
	hash := string(k.Hash)
	c.dropKey(k.ID)
	c.keys[hash], c.keyHashes[k.ID] = k, hash
	if link := int64(k.LinkID); link != 0 {
		c.linkKeys[link] = append(c.linkKeys[link], k.ID)
	}
	if k.Scope == store.ScopeAgent && k.Revoked.IsZero() {
		s := stun.CredentialOf(k.Hash)
		c.credentials[s.Username] = credential{s.Password, int64(k.LinkID)}
	}
}

func (c *content) dropKey(id int64) {
	hash, ok := c.keyHashes[id]
	if !ok {
		return
	}
	k := c.keys[hash]
	if k.Scope == store.ScopeAgent {
		delete(c.credentials, stun.CredentialOf(k.Hash).Username)
	}
	if link := int64(k.LinkID); link != 0 {
		if c.linkKeys[link] = slices.DeleteFunc(c.linkKeys[link],
			func(other int64) bool { return other == id }); len(c.linkKeys[link]) == 0 {
			delete(c.linkKeys, link)
		}
	}
	delete(c.keys, hash)
	delete(c.keyHashes, id)
}

func (c *content) putRecord(r store.ZoneRecord) {
	if c.records[r.ZoneID] == nil {
		c.records[r.ZoneID] = map[names.Name][]store.ZoneRecord{}
	}
	at := c.records[r.ZoneID][r.Name]
	c.records[r.ZoneID][r.Name] = append(at[:len(at):len(at)], r) // readers may hold the old list
}

func (c *content) putSigning(k store.SigningKey) {
	c.dropSigning(k.Name)
	c.signing[k.Name] = k
	if id := int64(k.SiteID); id != 0 {
		c.siteSigning[id] = append(c.siteSigning[id], k.Name)
	}
}

func (c *content) dropSigning(name string) {
	k, ok := c.signing[name]
	if !ok {
		return
	}
	delete(c.signing, name)
	if id := int64(k.SiteID); id != 0 {
		if c.siteSigning[id] = slices.DeleteFunc(c.siteSigning[id],
			func(other string) bool { return other == name }); len(c.siteSigning[id]) == 0 {
			delete(c.siteSigning, id)
		}
	}
}
