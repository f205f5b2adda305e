package record

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// Site is one site with everything on record that belongs to it. It is never changed in place.
type Site struct {
	site.Site
	Links     []*site.Link // each is never changed, but replaced: a site may have hundreds, of which one moves
	Hostnames []site.Hostname
	Devices   []site.Device
	Services  []site.Service
	Aliases   []site.Alias
	Redirects []site.Redirect
	place     map[int64]int // link ID to its place in Links
	// followers holds the hostnames by the link that they name; those that follow whatever link works are at 0.
	followers map[int64][]site.Hostname
}

// Following lists the hostnames whose answer may change with some links.
func (p Site) Following(links map[int64]bool) []site.Hostname {
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

// FollowingLink is Following for one link.
func (p Site) FollowingLink(linkID int64) []site.Hostname {
	either, one := p.followers[0], p.followers[linkID]
	switch {
	case len(either) == 0:
		return one
	case len(one) == 0:
		return either
	}
	return append(either[:len(either):len(either)], one...)
}

// AddressOf returns the addresses of what follows a link of the site, or its preferred link where linkID is 0.
func (p Site) AddressOf(linkID int64) wan.Pair {
	l, _ := p.Followed(linkID)
	return l.Addresses()
}

// EachLink yields the links in order of preference.
func (p Site) EachLink() iter.Seq[site.Link] {
	return func(yield func(site.Link) bool) {
		for _, l := range p.Links {
			if !yield(*l) {
				return
			}
		}
	}
}

// Preferred is site.Preferred of the site's links.
func (p Site) Preferred() (site.Link, bool) {
	if len(p.Links) == 1 { // as nearly everywhere
		return *p.Links[0], true
	}
	return site.Preferred(p.EachLink())
}

// Followed returns the link that something follows: the named one, or the preferred one where linkID is 0.
func (p Site) Followed(linkID int64) (site.Link, bool) {
	if linkID != 0 {
		return p.Link(linkID)
	}
	return p.Preferred()
}

// AnswerOf returns the addresses that a hostname should answer with.
func (p Site) AnswerOf(h site.Hostname) wan.Pair {
	of := p.AddressOf(h.LinkID)
	if h.DeviceID != 0 { // its AAAA is the device's own
		of.IPv6 = netip.Addr{}
		for _, d := range p.Devices {
			if d.ID == h.DeviceID {
				of.IPv6 = d.IPv6
			}
		}
	}
	return h.Answer(of)
}

// Link finds a link of the site by its ID.
func (p Site) Link(id int64) (site.Link, bool) {
	if i, ok := p.place[id]; ok {
		return *p.Links[i], true
	}
	return site.Link{}, false
}

// OtherLinkAt finds another link of the site that has an address.
func (p Site) OtherLinkAt(a netip.Addr, except int64) (site.Link, bool) {
	if !a.IsValid() {
		return site.Link{}, false
	}
	for _, l := range p.Links { // not copied: each announcement asks
		if (l.IPv4 == a || l.IPv6 == a) && l.ID != except {
			return *l, true
		}
	}
	return site.Link{}, false
}

// WantIPv6 lists the IDs of the devices whose IPv6 address a hostname or a service needs.
func (p Site) WantIPv6() map[int64]bool {
	out := map[int64]bool{}
	for _, h := range p.Hostnames {
		if h.DeviceID != 0 {
			out[h.DeviceID] = true
		}
	}
	for _, s := range p.Services {
		if s.Pinholed() {
			out[s.DeviceID] = true
		}
	}
	return out
}

// LinkNamed finds a link of the site by its label. Error: store.Missing.
func (p Site) LinkNamed(label string) (site.Link, error) {
	for l := range p.EachLink() {
		if l.Label == strings.ToLower(label) {
			return l, nil
		}
	}
	return site.Link{}, store.Missing{Kind: fmt.Sprintf("link of %s", p.Code), Name: label}
}

// DeviceNamed finds a device of the site by its name. Error: store.Missing.
func (p Site) DeviceNamed(name string) (site.Device, error) {
	if i := slices.IndexFunc(p.Devices, func(d site.Device) bool { return d.Name == name }); i >= 0 {
		return p.Devices[i], nil
	}
	return site.Device{}, store.Missing{Kind: "device of " + p.Code, Name: name}
}

// ZoneIDs lists the zones that the site's hostnames live in.
func (p Site) ZoneIDs() []int64 {
	seen := map[int64]bool{}
	var out []int64
	for _, h := range p.Hostnames {
		if !seen[h.ZoneID] {
			seen[h.ZoneID] = true
			out = append(out, h.ZoneID)
		}
	}
	return out
}

// FollowingPreferred lists the hostnames that follow whatever link works.
func (p Site) FollowingPreferred() []site.Hostname { return p.followers[0] }
