package fault

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

// Dark is a site that is dark with others of its provider, by its diagnosis.
type Dark struct {
	FaultID  int64
	Site     string // its code
	Provider string
	Opened   time.Time
}

// Outage is one fault of a provider, and the faults of sites that it explains.
type Outage struct {
	Provider string
	Since    time.Time // when the first of its sites went dark
	Finding  diagnose.Finding
	Sites    []string
	Under    []int64 // IDs of the sites' faults
}

// An outage begins with so many sites, and is over when fewer than so many are left of it.
const (
	outageFrom  = 3
	outageUntil = 2
)

// Outages puts the dark sites of each provider together. open names the providers whose outage is told already.
func Outages(dark []Dark, open map[string]bool) (out []Outage) {
	by := map[string][]Dark{}
	for _, d := range dark {
		by[d.Provider] = append(by[d.Provider], d)
	}
	for name, list := range by {
		least := outageFrom
		if open[name] {
			least = outageUntil
		}
		if name == "" || len(list) < least {
			continue
		}
		slices.SortFunc(list, func(a, b Dark) int { return cmp.Or(a.Opened.Compare(b.Opened), cmp.Compare(a.Site, b.Site)) })
		o := Outage{Provider: name, Since: list[0].Opened}
		for _, d := range list {
			o.Sites, o.Under = append(o.Sites, d.Site), append(o.Under, d.FaultID)
		}
		o.Finding = diagnose.Finding{Cause: "provider-outage", Hop: diagnose.HopAddress, Subject: AreaOfProvider(name), Sure: causes.Likely,
			Actor: causes.TheProvider, Summary: fmt.Sprintf("%s has an outage: %d sites are dark", name, len(list)),
			Evidence: []string{"dark within minutes of each other: " + some(o.Sites)},
			Next:     "Report it to " + name + ", or wait: nobody at the sites can mend it."}
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b Outage) int { return strings.Compare(a.Provider, b.Provider) })
	return out
}

// AreaOfProvider names a provider as the subject of a fault.
func AreaOfProvider(name string) string { return "provider " + name }

// ProviderOf returns the provider that a fault's subject names, "" if it names none.
func ProviderOf(subject string) string {
	name, ok := strings.CutPrefix(subject, "provider ")
	if !ok {
		return ""
	}
	return name
}

// namedMost is how many sites a sentence names.
const namedMost = 12

func some(codes []string) string {
	if n := len(codes) - namedMost; n > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(codes[:namedMost], ", "), n)
	}
	return strings.Join(codes, ", ")
}
