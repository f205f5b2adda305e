package verify

import (
	"context"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// aliasAnswers holds what each server last gave for each alias.
type aliasAnswers struct {
	mu    locks.Leaf
	given map[int64]map[server]wan.Pair
}

// askAlias asks one server for an alias.
func (v *Verifier) askAlias(ctx context.Context, a site.Alias, at server) {
	given, err := dnsask.Addresses(ctx, at.address, at.kind, a.Name)
	if err != nil {
		return // what it gave before stands
	}
	v.aliases.mu.Lock()
	defer v.aliases.mu.Unlock()
	if v.aliases.given[a.ID] == nil {
		v.aliases.given[a.ID] = map[server]wan.Pair{}
	}
	v.aliases.given[a.ID][at] = given
}

func (a *aliasAnswers) of(aliasID int64, at server) (wan.Pair, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	given, has := a.given[aliasID][at]
	return given, has
}

func (v *Verifier) aliasesOf(siteID int64) []site.Alias {
	p, _ := v.record.Site(siteID)
	return p.Aliases
}

// AliasAnswers is what servers last gave for an alias.
type AliasAnswers struct {
	Given     wan.Pair // by the zone's own server, if it was Asked
	Asked     bool
	Resolvers []Answer
}

// Answer is what one server last gave for a name.
type Answer struct {
	Server        string
	Authoritative bool
	Given         wan.Pair
}

// Alias returns what servers last gave for an alias.
func (v *Verifier) Alias(a site.Alias) AliasAnswers {
	home := v.Servers().Name
	if z := v.record.Zone(a.ZoneID); z.Kind == names.Remote {
		home = z.Primary.String()
	}
	v.aliases.mu.Lock()
	defer v.aliases.mu.Unlock()
	answers := v.aliases.given[a.ID]
	var out AliasAnswers
	out.Given, out.Asked = answers[server{home, dnsask.Authoritative}]
	for _, address := range v.Servers().Resolvers {
		if given, asked := answers[server{address, dnsask.Resolver}]; asked {
			out.Resolvers = append(out.Resolvers, Answer{Server: address, Given: given})
		}
	}
	return out
}
