package engine

import (
	"context"
	"sync"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// aliasViews holds what each place last gave for each alias.
type aliasViews struct {
	mu    sync.Mutex
	given map[int64]map[place]wan.Pair
}

// askAlias asks one place for an alias.
func (e *Engine) askAlias(ctx context.Context, a site.Alias, at place) {
	given, err := dnsask.Addresses(ctx, at.server, at.kind, a.Name)
	if err != nil {
		return // what it gave before stands
	}
	e.aliases.mu.Lock()
	defer e.aliases.mu.Unlock()
	if e.aliases.given[a.ID] == nil {
		e.aliases.given[a.ID] = map[place]wan.Pair{}
	}
	e.aliases.given[a.ID][at] = given
}

func (v *aliasViews) of(aliasID int64, at place) (wan.Pair, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	given, has := v.given[aliasID][at]
	return given, has
}

func (e *Engine) aliasesOf(siteID int64) []site.Alias {
	p, _ := e.record.Site(siteID)
	return p.Aliases
}

// Aliases lists all aliases by name, each with what it and its hostname were last answered with.
func (e *Engine) Aliases() []contract.Alias {
	list := e.record.Aliases()
	out := make([]contract.Alias, 0, len(list))
	for _, a := range list {
		out = append(out, e.aliasNow(a))
	}
	return out
}

func (e *Engine) aliasNow(a site.Alias) contract.Alias {
	out := contract.Alias{Alias: a}
	p, h, _ := e.record.HostnameAt(a.Hostname)
	known := e.names.of(h.ID)
	home := e.config.NameServer
	if z := e.record.Zone(a.ZoneID); z.Kind == names.Remote {
		home = z.Primary.String()
	}
	e.aliases.mu.Lock()
	defer e.aliases.mu.Unlock()
	views := e.aliases.given[a.ID]
	given, asked := views[place{home, dnsask.Authoritative}]
	if known.asked {
		out.HostnameGiven = known.given.String()
	}
	if asked {
		out.Given = given.String()
	}
	out.Same = asked && known.asked && given == known.given
	for _, server := range e.config.Resolvers {
		if v, asked := views[place{server, dnsask.Resolver}]; asked {
			out.Resolvers = append(out.Resolvers, contract.ResolverView{Server: server, Given: v.String(), Differs: v != p.AnswerOf(h)})
			out.Same = out.Same && v == known.resolvers[server].given
		}
	}
	return out
}

// Alias gives one alias.
func (e *Engine) Alias(name string) (contract.Alias, error) {
	a, ok := e.record.Alias(names.Name(canonical(name)))
	if !ok {
		return contract.Alias{}, store.Missing{Kind: "alias", Name: name}
	}
	return e.aliasNow(a), nil
}
