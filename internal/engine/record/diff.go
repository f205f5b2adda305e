package record

import (
	"maps"
	"reflect"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// SiteChange is a site before and after the record changed. The zero Site stands for one that is not on record.
type SiteChange struct {
	Before, After Site
	at            []names.Name // the only ones at which hostnames and aliases may differ; none stands for all
}

// ZoneChange is a zone before and after the record changed. The zero Zone stands for one that is not on record.
type ZoneChange struct{ Before, After names.Zone }

// Diff is how the record differs from what it was: everything that memory besides the record has to follow.
type Diff struct {
	// Whole reports that everything was read anew: any name of any zone may differ.
	Whole bool
	Sites []SiteChange
	Zones []ZoneChange
	names map[int64]map[names.Name]bool
}

// Names lists the names of a zone at which records may differ. It is meant for a Diff that is not Whole.
func (d Diff) Names(zoneID int64) []names.Name { return slices.Collect(maps.Keys(d.names[zoneID])) }

// Names lists, by zone, the names at which a site's records differ.
func (c SiteChange) Names() map[int64][]names.Name {
	var d Diff
	d.names = map[int64]map[names.Name]bool{}
	d.noteNames(c)
	out := map[int64][]names.Name{}
	for id, at := range d.names {
		out[id] = slices.Collect(maps.Keys(at))
	}
	return out
}

func wholeDiff(before, after content) Diff {
	d := Diff{Whole: true}
	for id, p := range after.sites {
		d.Sites = append(d.Sites, SiteChange{Before: before.sites[id], After: p})
	}
	for id, p := range before.sites {
		if _, there := after.sites[id]; !there {
			d.Sites = append(d.Sites, SiteChange{Before: p})
		}
	}
	for id, z := range after.zones {
		d.Zones = append(d.Zones, ZoneChange{before.zones[id], z})
	}
	for id, z := range before.zones {
		if _, there := after.zones[id]; !there {
			d.Zones = append(d.Zones, ZoneChange{Before: z})
		}
	}
	return d
}

func (d *Diff) noteName(zoneID int64, name names.Name) {
	if d.names[zoneID] == nil {
		d.names[zoneID] = map[names.Name]bool{}
	}
	d.names[zoneID][name] = true
}

// noteNames notes the names at which a site's records differ. Where a link differs, so may the answers of all its hostnames.
func (d *Diff) noteNames(c SiteChange) {
	links := sameLinks(c.Before, c.After)
	sides := [2]Site{c.Before, c.After}
	for i, side := range sides {
		other := sides[1-i]
		hostnames := placesOf(other.Hostnames, func(h site.Hostname) int64 { return h.ID })
		for _, h := range side.Hostnames {
			if len(c.at) > 0 && !slices.Contains(c.at, h.Name) {
				continue
			}
			k, there := hostnames[h.ID]
			if links && there && reflect.DeepEqual(other.Hostnames[k], h) && other.AnswerOf(h) == side.AnswerOf(h) {
				continue
			}
			for _, name := range h.Owners() {
				d.noteName(h.ZoneID, name)
			}
		}
		aliases := placesOf(other.Aliases, func(a site.Alias) int64 { return a.ID })
		for _, a := range side.Aliases {
			if k, there := aliases[a.ID]; (!there || other.Aliases[k] != a) && (len(c.at) == 0 || slices.Contains(c.at, a.Name)) {
				d.noteName(a.ZoneID, a.Name)
			}
		}
		for _, r := range side.Redirects {
			if !slices.Contains(other.Redirects, r) {
				d.noteName(r.ZoneID, r.Name)
			}
		}
	}
}

// placesOf tells by ID where in a list each is: a site may have hundreds of names.
func placesOf[T any](list []T, id func(T) int64) map[int64]int {
	out := make(map[int64]int, len(list))
	for i, one := range list {
		out[id(one)] = i
	}
	return out
}

// sameLinks reports whether the links of a site differ in nothing but when they were last heard.
func sameLinks(a, b Site) bool {
	return slices.EqualFunc(a.Links, b.Links, func(x, y *site.Link) bool {
		one, other := *x, *y
		one.Heard, other.Heard = time.Time{}, time.Time{}
		return reflect.DeepEqual(one, other)
	})
}

// Gone holds the IDs of what is no longer on record.
type Gone struct {
	Sites, Links, Hostnames, Devices, Services, Aliases, Zones map[int64]bool
}

// Gone lists what the difference took off the record.
func (d Diff) Gone() Gone {
	g := Gone{map[int64]bool{}, map[int64]bool{}, map[int64]bool{}, map[int64]bool{}, map[int64]bool{}, map[int64]bool{}, map[int64]bool{}}
	for _, c := range d.Sites {
		if c.Before.ID != 0 && c.After.ID == 0 {
			g.Sites[c.Before.ID] = true
		}
		gone(g.Links, c.Before.Links, c.After.Links, func(l *site.Link) int64 { return l.ID })
		gone(g.Hostnames, c.Before.Hostnames, c.After.Hostnames, func(h site.Hostname) int64 { return h.ID })
		gone(g.Devices, c.Before.Devices, c.After.Devices, func(d site.Device) int64 { return d.ID })
		gone(g.Services, c.Before.Services, c.After.Services, func(s site.Service) int64 { return s.ID })
		gone(g.Aliases, c.Before.Aliases, c.After.Aliases, func(a site.Alias) int64 { return a.ID })
	}
	for _, c := range d.Zones {
		if c.Before.ID != 0 && c.After.ID == 0 {
			g.Zones[c.Before.ID] = true
		}
	}
	return g
}

func gone[T any](into map[int64]bool, before, after []T, id func(T) int64) {
	still := placesOf(after, id)
	for _, b := range before {
		if _, there := still[id(b)]; !there {
			into[id(b)] = true
		}
	}
}
