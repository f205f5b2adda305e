package names

import (
	"cmp"
	"slices"
)

// Difference is one record set (RFC 2181 section 5) that is not as it should be. Now and Want hold the data of its records in
// order; an empty one says that the set is not there, or should not be.
type Difference struct {
	Name Name     `json:"name"`
	Type string   `json:"type"`
	Now  []string `json:"now"`
	Want []string `json:"want"`
}

type setKey struct {
	name   Name
	rrtype string
}

// Differences compares what is there with what should be there, set by set, by name and type. TTLs are not compared: a
// server may cap them.
func Differences(now, want []Record) []Difference {
	there, wanted := sets(now), sets(want)
	var out []Difference
	add := func(k setKey) {
		out = append(out, Difference{Name: k.name, Type: k.rrtype, Now: there[k], Want: wanted[k]})
	}
	for k, data := range wanted {
		if !slices.Equal(there[k], data) {
			add(k)
		}
	}
	for k := range there {
		if wanted[k] == nil {
			add(k)
		}
	}
	slices.SortFunc(out, func(a, b Difference) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type)) })
	return out
}

func sets(list []Record) map[setKey][]string {
	out := map[setKey][]string{}
	for _, r := range list {
		k := setKey{r.Name, r.Type}
		out[k] = append(out[k], r.Data)
	}
	for _, data := range out {
		slices.Sort(data)
	}
	return out
}

// SameRecords reports whether two lists hold the same records, TTLs among them, in whatever order.
func SameRecords(a, b []Record) bool {
	return slices.Equal(ordered(a), ordered(b))
}

func ordered(list []Record) []Record {
	out := slices.Clone(list)
	slices.SortFunc(out, func(a, b Record) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type), cmp.Compare(a.Data, b.Data), cmp.Compare(a.TTL, b.TTL))
	})
	return out
}

// OwnedTypes lists, in order, the types of the record sets that an update of one name has to replace: those that were given
// to the server before, and those that it should have.
func OwnedTypes(given, want []Record) []string {
	var out []string
	for _, r := range slices.Concat(given, want) {
		if !slices.Contains(out, r.Type) {
			out = append(out, r.Type)
		}
	}
	slices.Sort(out)
	return out
}
