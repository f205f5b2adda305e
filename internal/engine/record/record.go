// Package record holds in memory what the database has on record about sites and zones: the truth of every decision between two
// edits. It owns the indexes by which that is found. It decides nothing, writes nothing to the database, and changes only when it is
// told what the database has by now (Load, Reload, SetLinks, SetSerials, Pin).
//
// Values that it returns are never changed in place, so that readers may keep them. Any lock may be held when it is called: it calls
// nobody while it holds its own.
package record

import (
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/store"
)

// Record is the record in memory. It is safe for concurrent use. The zero Record is empty and ready.
type Record struct {
	mu locks.LeafRW
	content
	version uint64
}

// content is everything on record, with its indexes.
type content struct {
	sites  map[int64]Site
	codes  map[string]int64
	links  map[int64]int64 // link ID to site ID
	sorted []int64         // site IDs in order of code
	zones  map[int64]names.Zone

	hostnames map[names.Name]hostnamePlace // by every name that has the hostname's addresses
	aliases   map[names.Name]site.Alias
	redirects map[names.Name]site.Redirect
	records   map[int64]map[names.Name][]store.ZoneRecord // by zone

	keys        map[string]store.Key // by the hash of their secret
	keyHashes   map[int64]string     // of the keys, by ID
	linkKeys    map[int64][]int64    // IDs of the keys of a link
	credentials map[string]credential
	signing     map[string]store.SigningKey // by name
	siteSigning map[int64][]string          // names of the signing keys of a site
}

// hostnamePlace is where a hostname stands on its site's record.
type hostnamePlace struct {
	siteID int64
	place  int
}

// credential is what the user name of an agent's STUN credential stands for.
type credential struct {
	password string
	linkID   int64
}

func emptyContent() content {
	return content{sites: map[int64]Site{}, codes: map[string]int64{}, links: map[int64]int64{}, zones: map[int64]names.Zone{},
		hostnames: map[names.Name]hostnamePlace{}, aliases: map[names.Name]site.Alias{}, redirects: map[names.Name]site.Redirect{},
		records: map[int64]map[names.Name][]store.ZoneRecord{}, keys: map[string]store.Key{}, keyHashes: map[int64]string{},
		credentials: map[string]credential{}, signing: map[string]store.SigningKey{}, linkKeys: map[int64][]int64{},
		siteSigning: map[int64][]string{}}
}

// Version goes up with every change of the record.
func (r *Record) Version() uint64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.version
}

// Site finds a site by its ID.
func (r *Record) Site(id int64) (Site, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p, ok := r.sites[id]
	return p, ok
}

// SiteByCode finds a site by its code, in capitals or not.
func (r *Record) SiteByCode(code string) (Site, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p, ok := r.sites[r.codes[strings.ToUpper(code)]]
	return p, ok
}

// SiteOfLink finds a link and its site by the link's ID.
func (r *Record) SiteOfLink(linkID int64) (Site, site.Link, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p, ok := r.sites[r.links[linkID]]
	if !ok {
		return p, site.Link{}, false
	}
	l, ok := p.Link(linkID)
	return p, l, ok
}

// Sites lists all sites in order of code.
func (r *Record) Sites() []Site {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := make([]Site, 0, len(r.sorted))
	for _, id := range r.sorted {
		out = append(out, r.sites[id])
	}
	return out
}

// Pick goes through the sites that pick wants, in order of code, each as it is when it comes. pick is told the place of each, and must call
// nobody: the record is locked.
func (r *Record) Pick(pick func(place int, p Site) bool) iter.Seq[Site] {
	return func(yield func(Site) bool) {
		var wanted []int64
		r.mu.RLock()
		for i, id := range r.sorted {
			if pick(i, r.sites[id]) {
				wanted = append(wanted, id)
			}
		}
		r.mu.RUnlock()
		for _, id := range wanted {
			if p, ok := r.Site(id); ok && !yield(p) {
				return
			}
		}
	}
}

// SiteIDs lists the IDs of all sites in order of their codes.
func (r *Record) SiteIDs() []int64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Clone(r.sorted)
}

// HostnameAt finds the hostname that has its addresses at a name, and its site.
func (r *Record) HostnameAt(name names.Name) (p Site, h site.Hostname, ok bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	at, ok := r.hostnames[name]
	if !ok {
		return p, h, false
	}
	p = r.sites[at.siteID]
	return p, p.Hostnames[at.place], true
}

// Zone finds a zone by its ID; the zero Zone stands for none.
func (r *Record) Zone(id int64) names.Zone {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.zones[id]
}

// Zones lists all zones in order of their IDs.
func (r *Record) Zones() []names.Zone {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.SortedFunc(maps.Values(r.zones), func(a, b names.Zone) int { return int(a.ID - b.ID) })
}

// ZoneByApex finds a zone by its apex.
func (r *Record) ZoneByApex(apex names.Name) (names.Zone, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, z := range r.zones {
		if z.Apex == apex {
			return z, true
		}
	}
	return names.Zone{}, false
}

// Alias finds an alias by its name.
func (r *Record) Alias(name names.Name) (site.Alias, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out, ok := r.aliases[name]
	return out, ok
}

// Aliases lists all aliases by name.
func (r *Record) Aliases() []site.Alias {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.SortedFunc(maps.Values(r.aliases), func(a, b site.Alias) int { return strings.Compare(string(a.Name), string(b.Name)) })
}

// Redirect finds a redirect by its name.
func (r *Record) Redirect(name names.Name) (site.Redirect, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out, ok := r.redirects[name]
	return out, ok
}

// Redirects lists all redirects by name.
func (r *Record) Redirects() []site.Redirect {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.SortedFunc(maps.Values(r.redirects),
		func(a, b site.Redirect) int { return strings.Compare(string(a.Name), string(b.Name)) })
}

// RecordsAt lists the records that people put into a zone at a name.
func (r *Record) RecordsAt(zoneID int64, name names.Name) []store.ZoneRecord {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.records[zoneID][name]
}

// RecordsOf lists the records that people put into a zone, by name.
func (r *Record) RecordsOf(zoneID int64) (out []store.ZoneRecord) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, name := range slices.Sorted(maps.Keys(r.records[zoneID])) {
		out = append(out, r.records[zoneID][name]...)
	}
	return out
}

// Key finds an access key, revoked or not, by the hash of its secret.
func (r *Record) Key(hash []byte) (store.Key, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	k, ok := r.keys[string(hash)]
	return k, ok
}

// KeyByID finds an access key by its ID.
func (r *Record) KeyByID(id int64) (store.Key, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	k, ok := r.keys[r.keyHashes[id]]
	return k, ok
}

// SigningKey finds a TSIG key by its name, with or without the final dot.
func (r *Record) SigningKey(name string) (store.SigningKey, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	k, ok := r.signing[strings.TrimSuffix(strings.ToLower(name), ".")]
	return k, ok
}

// Credential returns the password of an agent's STUN credential and the link that it stands for; "" and 0 for an unknown user name.
func (r *Record) Credential(username string) (password string, linkID int64) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	c := r.credentials[username]
	return c.password, c.linkID
}

// SetLinks replaces links by their changed versions.
func (r *Record) SetLinks(list []site.Link) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version++
	copied := map[int64]bool{}
	for _, l := range list {
		p, ok := r.sites[l.SiteID]
		i, known := p.place[l.ID]
		if !ok || !known {
			continue
		}
		if !copied[l.SiteID] { // readers may hold the old list
			p.Links = slices.Clone(p.Links)
			copied[l.SiteID] = true
		}
		p.Links[i] = &l
		r.sites[l.SiteID] = p
	}
}

// Pin sets the fingerprint of a service, and nothing else of it; ok is false when the service is gone. Unless it is the first one, it
// is an edit, and the service's revision goes up.
func (r *Record) Pin(of site.Service, fingerprint, by string, at time.Time, first bool) (s site.Service, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version++
	p := r.sites[of.SiteID]
	i := slices.IndexFunc(p.Services, func(o site.Service) bool { return o.ID == of.ID })
	if i < 0 {
		return s, false
	}
	s = p.Services[i]
	s.Fingerprint, s.Pinned, s.PinnedBy = fingerprint, at, by
	if !first {
		s.Revision++
	}
	p.Services = slices.Clone(p.Services) // readers may hold the old list
	p.Services[i] = s
	r.sites[of.SiteID] = p
	return s, true
}

// SetSerials sets the serials of zones, by ID.
func (r *Record) SetSerials(serials map[int64]uint32) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version++
	for id, serial := range serials {
		if z, ok := r.zones[id]; ok {
			z.Serial = serial
			r.zones[id] = z
		}
	}
}
