package sheet

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// Section is a part of a sheet as it is printed: a table, or cards, or text.
type Section struct {
	Title   string
	Columns []string
	Rows    [][]string
	Cards   []site.Card
	Text    string
}

// Sections returns what is printed of a sheet, in order. What is empty is left out.
func (s Sheet) Sections() (out []Section) {
	add := func(x Section) {
		if len(x.Rows)+len(x.Cards) > 0 || x.Text != "" {
			out = append(out, x)
		}
	}
	add(Section{Title: "For the next visit", Text: s.Note})
	links := Section{Title: "Links", Columns: []string{"Link", "Provider", "Contract", "Address", "In front of the router", "Announced by"}}
	for _, l := range s.Links {
		links.Rows = append(links.Rows, []string{l.Label, l.Provider, l.Contract, l.Address + " (" + l.Mode + ")", l.Front, l.Updated})
	}
	add(links)
	add(Section{Title: "Router", Text: s.Router})
	names := Section{Title: "Names", Columns: []string{"Name", "Leads to"}}
	for _, n := range s.Names {
		names.Rows = append(names.Rows, []string{n.Name, n.To})
	}
	add(names)
	devices := Section{Title: "Devices", Columns: []string{"Device", "LAN address", "MAC", "Address is"}}
	for _, d := range s.Devices {
		devices.Rows = append(devices.Rows, []string{d.Name, d.Address, d.MAC, held(d)})
	}
	add(devices)
	services := Section{Title: "Services", Columns: []string{"Service", "Outside", "Inside", "State", "Last proof", "Recognised by"}}
	for _, v := range s.Services {
		services.Rows = append(services.Rows, []string{v.Name + " (" + v.Kind + ")", v.Outside, s.place(v.Device) + ", " + v.Inside,
			v.State,
			day(v.Proven), v.Fingerprint})
	}
	add(services)
	var cards []site.Card
	for _, v := range s.Services {
		if v.Expected != "closed" {
			cards = append(cards, v.Cards...)
		}
	}
	add(Section{Title: "Forwards, as the routers need them", Cards: cards})
	contacts := Section{Title: "Contacts", Columns: []string{"Who", "Name", "Phone", "Mail", "Note"}}
	for _, c := range s.Contacts {
		contacts.Rows = append(contacts.Rows, []string{c.Role, c.Name, c.Phone, c.Mail, c.Note})
	}
	add(contacts)
	steps := Section{Title: "Commissioning", Columns: []string{"Step", "Of", "State", "What was seen", "By", "When"}}
	for _, x := range s.Steps {
		steps.Rows = append(steps.Rows, []string{x.Title, x.Subject, x.State, x.Words, cmp.Or(x.By, "seen"), moment(x.At)})
	}
	add(steps)
	notes := Section{Title: "Notes", Columns: []string{"When", "By", "Note"}}
	for _, n := range s.Notes {
		notes.Rows = append(notes.Rows, []string{moment(n.At), n.By, n.Words})
	}
	add(notes)
	return out
}

// place names a device with its address.
func (s Sheet) place(device string) string {
	for _, d := range s.Devices {
		if d.Name == device {
			return strings.TrimSpace(d.Name + " " + d.Address)
		}
	}
	return device
}

func held(d Device) string {
	switch {
	case d.Router:
		return "the router's own"
	case d.Reserved:
		return "reserved"
	}
	return "not reserved"
}

func day(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format(time.DateOnly)
}

func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04")
}

// Title heads a sheet.
func (s Sheet) Title() string { return strings.TrimSpace(s.Code + " " + s.Name) }

// Changes says in words what differs between an earlier sheet and a later one. How services are at a moment is no change.
func Changes(before, after Sheet) []string {
	out := []string{}
	field := func(what, was, is string) {
		switch {
		case was == is:
		case was == "":
			out = append(out, fmt.Sprintf("%s: %s", what, is))
		case is == "":
			out = append(out, fmt.Sprintf("%s is no longer %s", what, was))
		default:
			out = append(out, fmt.Sprintf("%s was %s, and is %s", what, was, is))
		}
	}
	field("the site's code", before.Code, after.Code)
	field("the site's name", before.Name, after.Name)
	field("the router", before.Router, after.Router)
	field("the note for the next visit", before.Note, after.Note)
	each(&out, "link", before.Links, after.Links, func(l Link) string { return l.Label }, func(was, is Link) {
		field("the provider of link "+is.Label, was.Provider, is.Provider)
		field("the contract of link "+is.Label, was.Contract, is.Contract)
		field("the address of link "+is.Label, was.Address, is.Address)
		field("what stands in front of link "+is.Label, was.Front, is.Front)
	})
	each(&out, "name", before.Names, after.Names, func(n Name) string { return n.Name }, func(was, is Name) {
		field("what "+is.Name+" leads to", was.To, is.To)
	})
	each(&out, "device", before.Devices, after.Devices, func(d Device) string { return d.Name }, func(was, is Device) {
		field("the LAN address of "+is.Name, was.Address, is.Address)
		field("the MAC address of "+is.Name, was.MAC, is.MAC)
		field("the LAN address of "+is.Name+" as it is held", held(was), held(is))
	})
	each(&out, "service", before.Services, after.Services, func(v Service) string { return v.Name }, func(was, is Service) {
		field("the port of "+is.Name+" outside", was.Outside, is.Outside)
		field("where "+is.Name+" is inside", was.Device+", "+was.Inside, is.Device+", "+is.Inside)
		field("what "+is.Name+" is expected to be", was.Expected, is.Expected)
		field("what "+is.Name+" is recognised by", was.Fingerprint, is.Fingerprint)
	})
	each(&out, "contact", before.Contacts, after.Contacts, func(c Contact) string { return c.Name }, func(was, is Contact) {
		field("the role of "+is.Name, was.Role, is.Role)
		field("the phone of "+is.Name, was.Phone, is.Phone)
		field("the mail of "+is.Name, was.Mail, is.Mail)
	})
	switch n := len(after.Notes) - len(before.Notes); {
	case n == 1:
		out = append(out, "1 note was written")
	case n > 1:
		out = append(out, fmt.Sprintf("%d notes were written", n))
	}
	return out
}

// each compares two lists by the names of what is in them.
func each[T any](out *[]string, kind string, before, after []T, name func(T) string, both func(was, is T)) {
	find := func(list []T, n string) (T, bool) {
		for _, x := range list {
			if name(x) == n {
				return x, true
			}
		}
		var none T
		return none, false
	}
	for _, was := range before {
		if _, there := find(after, name(was)); !there {
			*out = append(*out, fmt.Sprintf("%s %s is gone", kind, name(was)))
		}
	}
	for _, is := range after {
		was, there := find(before, name(is))
		if !there {
			*out = append(*out, fmt.Sprintf("%s %s is new", kind, name(is)))
			continue
		}
		both(was, is)
	}
}
