package verify

import (
	"time"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// NameKnown is what servers gave for a hostname since its answer was set.
type NameKnown struct {
	Published time.Time
	Given     wan.Pair
	Asked     bool
	Resolvers map[string]ResolverGave
}

// ResolverGave is what a resolver or secondary gave, and when.
type ResolverGave struct {
	Given wan.Pair
	At    time.Time
}

// Known returns what is known of a hostname.
func (v *Verifier) Known(hostnameID int64) NameKnown {
	s := v.names.of(hostnameID)
	out := NameKnown{Published: s.published, Given: s.given, Asked: s.asked}
	for at, r := range s.resolvers {
		if out.Resolvers == nil {
			out.Resolvers = map[string]ResolverGave{}
		}
		out.Resolvers[at] = ResolverGave{r.given, r.at}
	}
	return out
}

// Show takes over what another server knows of a hostname.
func (v *Verifier) Show(hostnameID int64, in NameKnown) {
	s := nameState{published: in.Published, given: in.Given, asked: in.Asked, resolvers: map[string]resolved{}}
	for at, r := range in.Resolvers {
		s.resolvers[at] = resolved{r.Given, r.At}
	}
	v.names.set(hostnameID, func(to *nameState) { *to = s })
}

// AliasAnswer is what one server last gave for an alias.
type AliasAnswer struct {
	Server string
	Kind   dnsask.Kind
	Given  wan.Pair
}

// AliasKnown lists what servers last gave for an alias.
func (v *Verifier) AliasKnown(aliasID int64) (out []AliasAnswer) {
	v.aliases.mu.Lock()
	defer v.aliases.mu.Unlock()
	for at, given := range v.aliases.given[aliasID] {
		out = append(out, AliasAnswer{at.address, at.kind, given})
	}
	return out
}

// ShowAlias takes over what servers last gave another server for an alias.
func (v *Verifier) ShowAlias(aliasID int64, list []AliasAnswer) {
	v.aliases.mu.Lock()
	defer v.aliases.mu.Unlock()
	v.aliases.given[aliasID] = make(map[server]wan.Pair, len(list))
	for _, a := range list {
		v.aliases.given[aliasID][server{a.Server, a.Kind}] = a.Given
	}
}
