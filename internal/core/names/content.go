package names

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Record is one record of a zone in the form of a zone file (RFC 1035 section 5.1): TTL in seconds, data as written there.
type Record struct {
	Name Name   `json:"name"`
	Type string `json:"type"`
	TTL  int    `json:"ttl_seconds"`
	Data string `json:"data"`
}

// Types lists the types that a person may record beside hostnames and aliases, or a zone file may bring. SOA and the apex's NS come
// from the zone.
func Types() []string {
	return []string{"A", "AAAA", "CNAME", "DNAME", "MX", "TXT", "NS", "DS", "PTR", "SRV", "NAPTR", "CAA", "HTTPS", "SVCB", "SSHFP", "TLSA",
		"LOC", "HINFO", "RP", "URI"}
}

// ParseOwner is Parse for the owner of any record: labels may also begin with an underscore, as in _sip._tcp (RFC 8552), and the first may
// be "*" (RFC 4592). Error: ErrName.
func ParseOwner(s string) (Name, error) {
	t := strings.ToLower(strings.TrimSuffix(s, "."))
	rest := strings.TrimPrefix(t, "*.")
	words := strings.Split(rest, ".")
	for i, w := range words {
		words[i] = strings.TrimPrefix(w, "_")
		if words[i] != w && words[i] == "" {
			return "", ErrName{Name: s, Label: w, Detail: "is an underscore alone; a name such as _sip follows it"}
		}
	}
	if _, err := checked(strings.Join(words, "."), s); err != nil {
		return "", err
	}
	if len(t) > MaxText {
		return "", ErrName{Name: shortened(s), Detail: fmt.Sprintf("has %d characters; at most %d are allowed", len(t), MaxText)}
	}
	for _, w := range strings.Split(rest, ".") {
		if len(w) > MaxLabel {
			return "", ErrName{Name: s, Label: w, Detail: fmt.Sprintf("has %d characters; at most %d are allowed", len(w), MaxLabel)}
		}
	}
	return Name(t), nil
}

// ContentError is what is wrong with the content of a zone, and at which of the records.
type ContentError struct {
	At     int
	Detail string
}

func (e ContentError) Error() string { return e.Detail }

// CheckContent says what is wrong with a zone's records taken together: names outside the zone, a CNAME beside other data (RFC 1034 section
// 3.6.2) or more than one, a CNAME at the apex, a wildcard right below the apex, aliases that lead in a circle, the same record twice.
// Error: ContentError.
func CheckContent(apex Name, records []Record) error {
	aliases, at := map[Name]Name{}, map[Name]int{}
	others, othersAt := map[Name]string{}, map[Name]int{}
	seen, cuts := map[string]bool{}, map[Name]bool{}
	for i, r := range records {
		wrong := func(format string, args ...any) error { return ContentError{i, fmt.Sprintf(format, args...)} }
		switch {
		case !r.Name.Within(apex):
			return wrong("%s is not in zone %s", r.Name, apex)
		case r.Name == "*."+apex:
			return wrong("%s would answer for every name of the zone that does not exist; put the wildcard below a hostname", r.Name)
		case r.Name == apex && r.Type == "CNAME":
			return wrong("%s is the zone's apex, which cannot be an alias", r.Name)
		}
		if r.Type == "NS" && r.Name != apex {
			cuts[r.Name] = true
		}
		line := strings.Join([]string{string(r.Name), r.Type, r.Data}, " ")
		if seen[line] {
			return wrong("%s is on record already", line)
		}
		seen[line] = true
		if r.Type != "CNAME" {
			if others[r.Name] == "" {
				others[r.Name], othersAt[r.Name] = r.Type, i
			}
			continue
		}
		if _, twice := aliases[r.Name]; twice {
			return wrong("%s is an alias already; a name can stand for one other name only", r.Name)
		}
		at[r.Name] = i
		aliases[r.Name] = Name(strings.ToLower(strings.TrimSuffix(r.Data, ".")))
	}
	for i, r := range records {
		if r.Type == "A" && r.Data != "" || r.Type == "AAAA" && r.Data != "" {
			continue // may be the address of a name server below the cut
		}
		for here := r.Name; here != apex; {
			_, up, more := strings.Cut(string(here), ".")
			if cuts[here] && (here != r.Name || r.Type != "NS" && r.Type != "DS") {
				return ContentError{i, fmt.Sprintf("%s is at or below %s, which is delegated away: it would no longer be "+
					"answered here", r.Name, here)}
			}
			if here = Name(up); !more {
				break
			}
		}
	}
	for name := range aliases {
		if other, clash := others[name]; clash {
			return ContentError{max(at[name], othersAt[name]),
				fmt.Sprintf("%s has %s records; an alias stands alone at its name", name, other)}
		}
		if err := circle(name, aliases); err != nil {
			return ContentError{at[name], err.Error()}
		}
	}
	return nil
}

func circle(from Name, aliases map[Name]Name) error {
	way := []string{string(from)}
	for at := from; ; {
		next, more := aliases[at]
		if !more {
			return nil
		}
		way = append(way, string(next))
		if slices.Contains(way[:len(way)-1], string(next)) {
			return fmt.Errorf("aliases lead in a circle: %s", strings.Join(way, " → "))
		}
		at = next
	}
}

// CheckAdded is CheckContent for records that are added to a zone whose content is right so far, without looking at all of it. at returns
// the records at a name. below returns those at and below a name; it is asked for new delegations only. Error: ContentError, whose At is
// the index in added, or -1 if it is about what is there.
func CheckAdded(apex Name, added []Record, at, below func(Name) []Record) error {
	var there []Record
	looked := map[Name]bool{}
	look := func(name Name) []Record {
		if looked[name] {
			return nil
		}
		looked[name] = true
		list := at(name)
		there = append(there, list...)
		return list
	}
	var follow func(r Record)
	follow = func(r Record) { // an alias may close a circle
		if r.Type != "CNAME" {
			return
		}
		target := Name(strings.ToLower(strings.TrimSuffix(r.Data, ".")))
		if !target.Within(apex) {
			return
		}
		for _, next := range look(target) {
			follow(next)
		}
	}
	var tops []Name
	for _, r := range added {
		if r.Type == "NS" && r.Name != apex {
			tops = append(tops, r.Name)
		}
		for here := r.Name; here.Within(apex); {
			look(here)
			_, up, more := strings.Cut(string(here), ".")
			if here = Name(up); !more {
				break
			}
		}
		follow(r)
	}
	for _, top := range tops {
		for _, r := range below(top) {
			if !looked[r.Name] {
				there = append(there, r)
			}
		}
	}
	err := CheckContent(apex, append(there[:len(there):len(there)], added...))
	var wrong ContentError
	if errors.As(err, &wrong) {
		if wrong.At -= len(there); wrong.At < 0 {
			wrong.At = -1
		}
		return wrong
	}
	return err
}
