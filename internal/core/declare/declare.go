// Package declare is how a record is written down by people: as files that list sites, links, devices, services, hostnames and contacts.
package declare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Kind is what an item of a record is.
type Kind string

// The kinds, in the order in which they can be put on record: each needs only what comes before it.
const (
	Site     Kind = "site"
	Link     Kind = "link"
	Device   Kind = "device"
	Service  Kind = "service"
	Hostname Kind = "hostname"
	Contact  Kind = "contact"
)

// Kinds lists all kinds in that order.
func Kinds() []Kind { return []Kind{Site, Link, Device, Service, Hostname, Contact} }

// ParseKind reads a kind, also in the plural. Error: that it is none.
func ParseKind(text string) (Kind, error) {
	k := Kind(strings.TrimSuffix(strings.ToLower(strings.TrimSpace(text)), "s"))
	if !slices.Contains(Kinds(), k) {
		return "", fmt.Errorf("%q is no part of a record; there are sites, links, devices, services, hostnames and contacts", text)
	}
	return k, nil
}

// Plural is the word for several of a kind, which is also the key of their list in a file.
func (k Kind) Plural() string { return string(k) + "s" }

// Key is the field that tells items of a kind at one site apart.
func (k Kind) Key() string {
	switch k {
	case Site:
		return "code"
	case Link:
		return "label"
	}
	return "name"
}

// Same returns the form of a name in which two of a kind are compared.
func (k Kind) Same(name string) string {
	name = strings.TrimSpace(name)
	switch k {
	case Site:
		return strings.ToUpper(name)
	case Contact:
		return name
	}
	return strings.ToLower(name)
}

// Place is where something stands in a file, both from 1. Column is that of a CSV file's cell, or of a line of text.
type Place struct{ Line, Column int }

// Item is one thing of a record as it is written down. Fields has what is said of it, by name, as JSON would have it; what is left out
// stays as it is. Places says where each stands.
type Item struct {
	Kind   Kind
	Site   string // its code; that of a site itself
	Name   string
	Fields map[string]any
	At     Place
	Places map[string]Place
}

// Identity tells an item from all others of a record.
type Identity struct {
	Kind       Kind
	Site, Name string
}

// Identity returns the item's.
func (i Item) Identity() Identity { return identity(i.Kind, i.Site, i.Name) }

// identity is that of a thing. A hostname is one of a kind everywhere, not at its site alone.
func identity(kind Kind, site, name string) Identity {
	if kind == Hostname {
		site = ""
	}
	return Identity{kind, Site.Same(site), kind.Same(name)}
}

// LineFlaw is what is wrong with one item of a file, and where. Column is the field's name, or its heading in a file.
type LineFlaw struct {
	Line   int    `json:"line"`
	Column string `json:"column,omitempty"`
	Kind   Kind   `json:"kind"`
	Site   string `json:"site,omitempty"`
	Name   string `json:"name,omitempty"`
	Detail string `json:"detail"`
}

func (f LineFlaw) Error() string {
	where := fmt.Sprintf("line %d", f.Line)
	if f.Column != "" {
		where += ", " + f.Column
	}
	return where + ": " + f.Detail
}

// Wrong makes a flaw of a field of an item; "" is none in particular.
func (i Item) Wrong(field, detail string) LineFlaw {
	line := i.At.Line
	if p, ok := i.Places[field]; ok {
		line = p.Line
	}
	return LineFlaw{Line: line, Column: field, Kind: i.Kind, Site: i.Site, Name: i.Name, Detail: detail}
}

// Arrange sorts items into the order in which they can be put on record, and finds those that lack their name or site, or are listed twice.
func Arrange(items []Item) (ordered []Item, flaws []LineFlaw) {
	seen := map[Identity]Item{}
	for _, i := range items {
		switch first, twice := seen[i.Identity()]; {
		case strings.TrimSpace(i.Name) == "":
			flaws = append(flaws, i.Wrong(i.Kind.Key(), "is required"))
		case strings.TrimSpace(i.Site) == "":
			flaws = append(flaws, i.Wrong("site", "is required: the code of its site"))
		case twice:
			flaws = append(flaws, i.Wrong(i.Kind.Key(), fmt.Sprintf("%s %s is listed twice; it stands in line %d already", i.Kind, i.Name,
				first.At.Line)))
		default:
			seen[i.Identity()] = i
			ordered = append(ordered, i)
		}
	}
	kinds := Kinds()
	slices.SortStableFunc(ordered, func(a, b Item) int { return cmp.Compare(slices.Index(kinds, a.Kind), slices.Index(kinds, b.Kind)) })
	return ordered, flaws
}

// Scope says what a file has all of: what is on record of that and is not in the file is to be removed.
type Scope struct {
	// Everything says that the file lists all sites.
	Everything bool
	// Parts are the kinds that the file lists whole, by site code in capitals.
	Parts map[string][]Kind
}

// Absent lists what is on record within the scope of a file and is not in it, in the order in which it can be removed. Parts of a site that
// is removed go with it.
func (s Scope) Absent(now []Identity, items []Item) (gone []Identity) {
	listed := map[Identity]bool{}
	for _, i := range items {
		listed[i.Identity()] = true
	}
	for _, id := range now {
		whole := slices.Contains(s.Parts[Site.Same(id.Site)], id.Kind)
		if id.Kind == Site {
			whole = s.Everything
		}
		if whole && !listed[identity(id.Kind, id.Site, id.Name)] {
			gone = append(gone, id)
		}
	}
	order := []Kind{Service, Hostname, Contact, Device, Link, Site}
	slices.SortStableFunc(gone, func(a, b Identity) int { return cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind)) })
	return gone
}
