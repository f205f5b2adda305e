package checkup

import (
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
)

// Served is what one name server said of a zone.
type Served struct {
	Server, Address string
	Authoritative   bool // it answers from the zone itself (RFC 1035 section 4.1.1, AA)
	Serial          uint32
	Names           []string // of the zone's name servers, as it tells them
	Trouble         string
}

// Delegated is what one of the parent zone's servers says of a zone: who serves it. No names mean that it delegates nothing.
type Delegated struct {
	Server  string
	Names   []string
	Glue    map[string][]string // addresses of those names, as the parent has them
	Trouble string
}

// Zonal is what was found of a zone. Trouble says why its parent could not be found.
type Zonal struct {
	Apex    string
	Ours    bool     // we are its primary
	Names   []string // of its name servers, on record; none for a zone whose primary is elsewhere
	Glue    map[string][]string
	Serial  uint32 // that we answer; 0 for a zone whose primary is elsewhere
	Parent  string // apex of the parent zone
	Trouble string
	From    []Delegated
	Servers []Served
}

// NoZones says that there is no zone on record.
func NoZones() Point {
	return Zone.not(Attention, "on record", "add one: inkpost zone add ZONE --server NAME=ADDRESS", "there is no zone yet")
}

// Judge says whether the zone is delegated to the servers that it names, and whether they all answer the same.
func (z Zonal) Judge() []Point {
	return append([]Point{z.delegation()}, z.servers()...)
}

func listed(list []string) string { return strings.Join(list, ", ") }

// sameNames reports whether two lists of names are equal but for order and case.
func sameNames(a, b []string) bool {
	low := func(list []string) []string {
		out := make([]string, len(list))
		for i, n := range list {
			out[i] = strings.ToLower(strings.TrimSuffix(n, "."))
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	return slices.Equal(low(a), low(b))
}

// own is who serves the zone by its own word.
func (z Zonal) own() []string {
	if len(z.Names) > 0 {
		return z.Names
	}
	for _, s := range z.Servers {
		if s.Authoritative && len(s.Names) > 0 {
			return s.Names
		}
	}
	return nil
}

func (z Zonal) delegation() Point {
	name := z.Apex + " delegation"
	if z.Trouble != "" {
		return Zone.not(Untried, name, "", "its parent zone could not be found: %s", z.Trouble)
	}
	ask := fmt.Sprintf("have the keeper of %s enter NS records of %s for %s", z.Parent, z.Apex, listed(z.own()))
	var glue []string
	for _, n := range z.own() {
		for _, a := range z.Glue[n] {
			glue = append(glue, n+" "+a)
		}
	}
	if len(glue) > 0 {
		ask += ", with the addresses " + listed(glue)
	}
	answered := 0
	for _, d := range z.From {
		if d.Trouble != "" {
			continue
		}
		answered++
		switch {
		case len(d.Names) == 0:
			return Zone.not(Wrong, name, ask, "%s, of the parent zone %s, delegates it to nobody: the world does not find these names",
				d.Server, z.Parent)
		case len(z.own()) > 0 && !sameNames(d.Names, z.own()):
			return Zone.not(Attention, name, "make both the same: "+ask, "the parent zone %s names %s, the zone itself %s", z.Parent,
				listed(d.Names), listed(z.own()))
		}
		for _, n := range d.Names {
			if has, ours := d.Glue[n], z.Glue[n]; len(has) > 0 && len(ours) > 0 && !sameNames(has, ours) {
				return Zone.not(Wrong, name, ask, "the parent zone %s has %s at %s, the zone itself at %s", z.Parent, n, listed(has),
					listed(ours))
			}
		}
	}
	if answered == 0 {
		words := "it has no name server"
		if len(z.From) > 0 {
			words = z.From[0].Server + ": " + z.From[0].Trouble
		}
		return Zone.not(Untried, name, "", "no server of the parent zone %s answers: %s", z.Parent, words)
	}
	return Zone.good(name, "the parent zone %s delegates it to %s, as the zone itself says", z.Parent, listed(z.own()))
}

// servers says how each name server answers for the zone.
func (z Zonal) servers() []Point {
	var out []Point
	want := z.Serial
	for _, s := range z.Servers { // the newest that anybody has
		if s.Authoritative && s.Trouble == "" && (want == 0 || names.SerialAfter(s.Serial, want) && !z.Ours) {
			want = s.Serial
		}
	}
	for _, s := range z.Servers {
		name := z.Apex + " at " + s.Server
		where := s.Server
		if s.Address != "" && s.Address != s.Server {
			where += " (" + s.Address + ")"
		}
		switch {
		case s.Trouble != "":
			out = append(out, Zone.not(Wrong, name,
				"start it, or open port 53 over UDP and TCP there; a resolver that picks it waits in vain",
				"%s does not answer: %s", where, s.Trouble))
		case !s.Authoritative:
			out = append(out, Zone.not(Wrong, name, "set it up as a secondary of the zone, or take its NS record out",
				"%s does not serve the zone, although an NS record names it", where))
		case names.SerialAfter(want, s.Serial):
			out = append(out, Zone.not(Attention, name, "let it be told of changes (--notify), and let it fetch the zone (--transfer-to)",
				"%s has serial %d, the newest is %d", where, s.Serial, want))
		case z.Ours && names.SerialAfter(s.Serial, want):
			out = append(out, Zone.not(Wrong, name, "find out which primary it follows; ours is overruled as long as its serial is lower",
				"%s has serial %d, which is above ours, %d", where, s.Serial, want))
		case len(s.Names) > 0 && len(z.own()) > 0 && !sameNames(s.Names, z.own()):
			out = append(out, Zone.not(Attention, name, "let all servers have the same copy of the zone",
				"%s names %s as its servers, not %s",
				where, listed(s.Names), listed(z.own())))
		default:
			out = append(out, Zone.good(name, "%s answers with serial %d", where, s.Serial))
		}
	}
	if len(z.Servers) == 1 {
		out = append(out, Zone.not(Attention, z.Apex+" servers",
			"add a secondary in another network: names do not wait for one machine then",
			"only one server answers for it"))
	}
	return out
}
