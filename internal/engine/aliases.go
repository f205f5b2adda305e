package engine

import (
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/store"
)

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
	of, hostnameAsked := e.verify.Given(h.ID)
	if hostnameAsked {
		out.HostnameGiven = of.String()
	}
	answers := e.verify.Alias(a)
	if answers.Asked {
		out.Given = answers.Given.String()
	}
	out.Same = answers.Asked && hostnameAsked && answers.Given == of
	elsewhere := e.verify.Elsewhere(h)
	for _, r := range answers.Resolvers {
		out.Resolvers = append(out.Resolvers, contract.ResolverView{Server: r.Server, Given: r.Given.String(), Differs: r.Given != p.AnswerOf(h)})
		i := slices.IndexFunc(elsewhere, func(one verify.Answer) bool { return one.Server == r.Server })
		out.Same = out.Same && i >= 0 && elsewhere[i].Given == r.Given
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
