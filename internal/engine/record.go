package engine

import (
	"context"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// record is the memory of what the database holds about sites. Values in it are never changed in place: readers may keep
// what they were given.
type record struct {
	mu     sync.RWMutex
	sites  map[int64]premises
	codes  map[string]int64
	links  map[int64]int64 // link ID to site ID
	zones  map[int64]names.Zone
	listed []int64 // site IDs in order of code

	keys    map[string]store.Key // by hash
	beats   map[string]beat      // by the user name of an agent's STUN credential
	aliases []site.Alias
	// redirects holds the redirect names, by name.
	redirects map[names.Name]site.Redirect
	records   []store.ZoneRecord
	signing   map[string]store.SigningKey // by name
	// fixed holds, for each name of each zone, the encoded sets that do not move with an address.
	fixed map[int64]authdns.Names
	// plain holds the same of remote zones, as records.
	plain map[int64]map[names.Name][]names.Record
	// owners finds the hostname that has its addresses at a name.
	owners map[names.Name]nameOwner
}

// beat is what an agent's STUN credential stands for.
type beat struct {
	password string
	linkID   int64
}

// nameOwner is a hostname on a site's record, by its place there.
type nameOwner struct {
	siteID int64
	place  int
}

// premises is one site with all that belongs to it.
type premises struct {
	site.Site
	links     []*site.Link // each is never changed, but replaced: a site may have hundreds, of which one moves
	hostnames []site.Hostname
	devices   []site.Device
	services  []site.Service
	at        map[int64]int // link ID to its place in links
	// followers holds the hostnames by the link that they name; those that follow whatever link works are at 0.
	followers map[int64][]site.Hostname
}

// following lists the hostnames whose answer may change with some links.
func (p premises) following(links map[int64]bool) []site.Hostname {
	count := len(p.followers[0])
	for id := range links {
		count += len(p.followers[id])
	}
	out := append(make([]site.Hostname, 0, count), p.followers[0]...)
	for id := range links {
		out = append(out, p.followers[id]...)
	}
	return out
}

// followingOne is following for one link.
func (p premises) followingOne(linkID int64) []site.Hostname {
	either, one := p.followers[0], p.followers[linkID]
	switch {
	case len(either) == 0:
		return one
	case len(one) == 0:
		return either
	}
	return append(either[:len(either):len(either)], one...)
}

// addressOf gives the addresses of what follows a link of the site, or its preferred link where linkID is 0.
func (p premises) addressOf(linkID int64) wan.Pair {
	l, _ := p.followed(linkID)
	return l.Addresses()
}

// eachLink gives the links in their order.
func (p premises) eachLink() iter.Seq[site.Link] {
	return func(yield func(site.Link) bool) {
		for _, l := range p.links {
			if !yield(*l) {
				return
			}
		}
	}
}

// preferred is site.Preferred of the site's links.
func (p premises) preferred() (site.Link, bool) { return site.Preferred(p.eachLink()) }

// followed gives the link that something follows: the named one, or the preferred one where linkID is 0.
func (p premises) followed(linkID int64) (site.Link, bool) {
	if linkID != 0 {
		return p.link(linkID)
	}
	return p.preferred()
}

// answerOf gives the addresses that a hostname should answer with.
func (p premises) answerOf(h site.Hostname) wan.Pair {
	of := p.addressOf(h.LinkID)
	if h.DeviceID != 0 { // its AAAA is the device's own
		of.IPv6 = netip.Addr{}
		for _, d := range p.devices {
			if d.ID == h.DeviceID {
				of.IPv6 = d.IPv6
			}
		}
	}
	return h.Answer(of)
}

func (p premises) link(id int64) (site.Link, bool) {
	if i, ok := p.at[id]; ok {
		return *p.links[i], true
	}
	return site.Link{}, false
}

// reload reads the whole record from the database. The caller holds e.edit, or nobody else is there yet.
func (e *Engine) reload(ctx context.Context) error {
	sites, err := e.store.Sites(ctx)
	if err != nil {
		return err
	}
	links, err := e.store.Links(ctx, 0)
	if err != nil {
		return err
	}
	hostnames, err := e.store.Hostnames(ctx, 0)
	if err != nil {
		return err
	}
	devices, err := e.store.Devices(ctx, 0)
	if err != nil {
		return err
	}
	services, err := e.store.Services(ctx, 0)
	if err != nil {
		return err
	}
	zones, err := e.store.Zones(ctx)
	if err != nil {
		return err
	}
	aliases, err := e.store.Aliases(ctx)
	if err != nil {
		return err
	}
	records, err := e.store.ZoneRecords(ctx)
	if err != nil {
		return err
	}
	redirects, err := e.store.Redirects(ctx)
	if err != nil {
		return err
	}
	sentOn := make(map[names.Name]site.Redirect, len(redirects))
	for _, r := range redirects {
		sentOn[r.Name] = r
	}
	keys, err := e.store.SigningKeys(ctx)
	if err != nil {
		return err
	}
	access, err := e.store.Keys(ctx)
	if err != nil {
		return err
	}
	byHash := make(map[string]store.Key, len(access))
	for _, k := range access {
		byHash[string(k.Hash)] = k
	}
	beats := map[string]beat{}
	for _, k := range access {
		if k.Scope == store.ScopeAgent && k.Revoked.IsZero() {
			user, password := contract.Heartbeat(k.Hash)
			beats[user] = beat{password, int64(k.LinkID)}
		}
	}
	signing := make(map[string]store.SigningKey, len(keys))
	for _, k := range keys {
		signing[k.Name] = k
	}
	all := make(map[int64]premises, len(sites))
	codes, owner, byZone := make(map[string]int64, len(sites)), make(map[int64]int64, len(links)), make(map[int64]names.Zone, len(zones))
	listed, owners := make([]int64, 0, len(sites)), make(map[names.Name]nameOwner, len(hostnames))
	for _, s := range sites {
		all[s.ID] = premises{Site: s}
		codes[s.Code] = s.ID
		listed = append(listed, s.ID)
	}
	with := func(id int64, f func(*premises)) {
		p := all[id]
		f(&p)
		all[id] = p
	}
	for _, l := range links {
		with(l.SiteID, func(p *premises) {
			if p.at == nil {
				p.at = map[int64]int{}
			}
			p.at[l.ID] = len(p.links)
			p.links = append(p.links, &l)
		})
		owner[l.ID] = l.SiteID
	}
	for _, h := range hostnames {
		with(h.SiteID, func(p *premises) {
			if p.followers == nil {
				p.followers = map[int64][]site.Hostname{}
			}
			for _, name := range ownersOf(h) {
				owners[name] = nameOwner{h.SiteID, len(p.hostnames)}
			}
			p.hostnames = append(p.hostnames, h)
			p.followers[h.LinkID] = append(p.followers[h.LinkID], h)
		})
	}
	for _, d := range devices {
		with(d.SiteID, func(p *premises) { p.devices = append(p.devices, d) })
	}
	for _, s := range services {
		with(s.SiteID, func(p *premises) { p.services = append(p.services, s) })
	}
	for _, z := range zones {
		byZone[z.ID] = z
	}
	e.record.mu.Lock()
	defer e.record.mu.Unlock()
	e.record.sites, e.record.codes, e.record.links, e.record.zones, e.record.listed = all, codes, owner, byZone, listed
	e.record.aliases, e.record.records, e.record.signing, e.record.keys = aliases, records, signing, byHash
	e.record.beats = beats
	e.record.owners, e.record.redirects = owners, sentOn
	return nil
}

func (r *record) site(id int64) (premises, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p, ok := r.sites[id]
	return p, ok
}

func (r *record) byCode(code string) (premises, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p, ok := r.sites[r.codes[strings.ToUpper(code)]]
	return p, ok
}

func (r *record) ofLink(linkID int64) (premises, site.Link, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	p, ok := r.sites[r.links[linkID]]
	if !ok {
		return p, site.Link{}, false
	}
	l, ok := p.link(linkID)
	return p, l, ok
}

func (r *record) all() []premises {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := make([]premises, 0, len(r.listed))
	for _, id := range r.listed {
		out = append(out, r.sites[id])
	}
	return out
}

// at finds the hostname that has its addresses at a name.
func (r *record) at(name names.Name) (p premises, h site.Hostname, ok bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	o, ok := r.owners[name]
	if !ok {
		return p, h, false
	}
	p = r.sites[o.siteID]
	return p, p.hostnames[o.place], true
}

func (r *record) plainAt(zoneID int64, name names.Name) []names.Record {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.plain[zoneID][name]
}

func (r *record) zone(id int64) names.Zone {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.zones[id]
}

func (r *record) zoneList() []names.Zone {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := make([]names.Zone, 0, len(r.zones))
	for _, z := range r.zones {
		out = append(out, z)
	}
	slices.SortFunc(out, func(a, b names.Zone) int { return int(a.ID - b.ID) })
	return out
}

// setLinks puts changed links in the places of the old ones.
func (r *record) setLinks(list []site.Link) {
	r.mu.Lock()
	defer r.mu.Unlock()
	copied := map[int64]bool{}
	for _, l := range list {
		p, ok := r.sites[l.SiteID]
		i, known := p.at[l.ID]
		if !ok || !known {
			continue
		}
		if !copied[l.SiteID] { // readers may hold the old list
			p.links = slices.Clone(p.links)
			copied[l.SiteID] = true
		}
		p.links[i] = &l
		r.sites[l.SiteID] = p
	}
}

// pinService sets what a service is recognised by, and nothing else of it; ok is false where it is gone.
func (r *record) pinService(of site.Service, fingerprint, by string, at time.Time, first bool) (s site.Service, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	p := r.sites[of.SiteID]
	i := slices.IndexFunc(p.services, func(o site.Service) bool { return o.ID == of.ID })
	if i < 0 {
		return s, false
	}
	s = p.services[i]
	s.Fingerprint, s.Pinned, s.PinnedBy = fingerprint, at, by
	if !first {
		s.Revision++
	}
	p.services = slices.Clone(p.services) // readers may hold the old list
	p.services[i] = s
	r.sites[of.SiteID] = p
	return s, true
}

func (r *record) setSerials(serials map[int64]uint32) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, serial := range serials {
		z := r.zones[id]
		z.Serial = serial
		r.zones[id] = z
	}
}

func (r *record) content() ([]site.Alias, []store.ZoneRecord) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.aliases, r.records
}

func (r *record) redirectList() []site.Redirect {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.SortedFunc(maps.Values(r.redirects), func(a, b site.Redirect) int { return strings.Compare(string(a.Name), string(b.Name)) })
}

func (r *record) redirect(name names.Name) (site.Redirect, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out, ok := r.redirects[name]
	return out, ok
}

func (r *record) key(hash []byte) (store.Key, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	k, ok := r.keys[string(hash)]
	return k, ok
}

// signingKey finds a TSIG key by its name, with or without the final dot.
func (r *record) signingKey(name string) (store.SigningKey, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	k, ok := r.signing[strings.TrimSuffix(strings.ToLower(name), ".")]
	return k, ok
}

func (r *record) zoneByApex(apex names.Name) (names.Zone, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, z := range r.zones {
		if z.Apex == apex {
			return z, true
		}
	}
	return names.Zone{}, false
}
