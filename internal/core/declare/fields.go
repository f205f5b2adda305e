package declare

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Type is what a field holds.
type Type int

// The types: text, a whole number, yes or no, several words, a time, and names with values.
const (
	Text Type = iota
	Number
	YesNo
	List
	Time
	Pairs
)

// Field is one field of a kind. Example is what a template shows.
type Field struct {
	Name    string
	Type    Type
	Example string
}

// Fields lists the fields of a kind, the one that names it first. Those of all but sites have their site's code beside them.
func (k Kind) Fields() []Field {
	switch k {
	case Site:
		return []Field{{"code", Text, "KET-07"}, {"name", Text, "Lighthouse Museum"}, {"note", Text, "Key at the keeper's cottage"},
			{"tags", List, "harbour; museum"}, {"router", Text, "in the cupboard under the stairs"}}
	case Link:
		return []Field{{"label", Text, "main"}, {"provider", Text, "Kettle Cable"}, {"mode", Text, "dynamic"}, {"position", Number, "1"},
			{"ipv4", Text, ""}, {"ipv6", Text, ""}, {"change_at", Time, ""}, {"router_address", Text, ""}, {"dynamic_range", Text, ""},
			{"sources", List, ""}, {"contract", Text, "KC-20417"}, {"may_map", YesNo, "no"}}
	case Device:
		return []Field{{"name", Text, "recorder"}, {"mac", Text, "02:00:5e:07:00:01"}, {"lan_address", Text, "192.168.1.20"},
			{"reserved", YesNo, "yes"}, {"router", YesNo, "no"}}
	case Service:
		return []Field{{"name", Text, "recorder-page"}, {"device", Text, "recorder"}, {"link", Text, ""}, {"kind", Text, "https"},
			{"transport", Text, "tcp"}, {"external", Text, "8443"}, {"internal", Text, "443"}, {"expected", Text, "reachable"},
			{"reach", Text, "forward"}, {"interval_seconds", Number, "60"}, {"in_use", YesNo, "yes"}, {"options", Pairs, ""},
			{"open_until", Time, ""}}
	case Hostname:
		return []Field{{"name", Text, "ket-07.isles.saltmarsh.example"}, {"link", Text, ""}, {"ttl_seconds", Number, "60"},
			{"extras", List, ""}, {"mail", Text, ""}, {"device", Text, ""}}
	case Contact:
		return []Field{{"name", Text, "Museum desk"}, {"role", Text, "key holder"}, {"phone", Text, "+44 1632 960007"},
			{"mail", Text, "desk@museum.example"}, {"note", Text, "rings at the cottage"}}
	}
	return nil
}

// Field finds a field of a kind by its name.
func (k Kind) Field(name string) (Field, bool) {
	list := k.Fields()
	i := slices.IndexFunc(list, func(f Field) bool { return f.Name == name })
	if i < 0 {
		return Field{}, false
	}
	return list[i], true
}

// Parse reads a field as a cell has it: "" is the empty value, several words are separated by semicolons, and pairs are written NAME=VALUE.
// Error: what is allowed.
func (f Field) Parse(cell string) (any, error) {
	cell = strings.TrimSpace(cell)
	switch f.Type {
	case Number:
		n, err := strconv.Atoi(cell)
		if cell != "" && err != nil {
			return nil, fmt.Errorf("%q is not a whole number", cell)
		}
		return n, nil
	case YesNo:
		switch strings.ToLower(cell) {
		case "yes", "true", "1":
			return true, nil
		case "", "no", "false", "0":
			return false, nil
		}
		return nil, fmt.Errorf("%q is neither yes nor no", cell)
	case List:
		return words(cell), nil
	case Time:
		if cell == "" {
			return time.Time{}, nil
		}
		for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", time.DateOnly} {
			if t, err := time.Parse(layout, cell); err == nil {
				return t, nil
			}
		}
		return nil, fmt.Errorf("%q is not a time; write it as 2026-11-23T08:00:00Z", cell)
	case Pairs:
		out := map[string]string{}
		for _, w := range words(cell) {
			name, value, ok := strings.Cut(w, "=")
			if !ok {
				return nil, fmt.Errorf("%q is not written NAME=VALUE", w)
			}
			out[strings.TrimSpace(name)] = strings.TrimSpace(value)
		}
		return out, nil
	}
	return cell, nil
}

func words(cell string) []string {
	out := []string{}
	for w := range strings.SplitSeq(cell, ";") {
		if w = strings.TrimSpace(w); w != "" {
			out = append(out, w)
		}
	}
	return out
}

// Cell writes a value as Parse reads it. Values are those of JSON documents.
func (f Field) Cell(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case []any:
		list := make([]string, len(v))
		for i, w := range v {
			list[i] = fmt.Sprint(w)
		}
		return strings.Join(list, "; ")
	case map[string]any:
		var list []string
		for name, value := range v {
			list = append(list, name+"="+fmt.Sprint(value))
		}
		slices.Sort(list)
		return strings.Join(list, "; ")
	}
	if text := fmt.Sprint(v); f.Type != Time || !strings.HasPrefix(text, "0001-") {
		return text
	}
	return ""
}
