package views

import (
	"context"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/store"
)

// Aliases lists all aliases by name, each with what it and its hostname were last answered with.
func (vw *Views) Aliases(ctx context.Context) []contract.Alias {
	list := vw.Record.Aliases()
	out := make([]contract.Alias, 0, len(list))
	for _, a := range list {
		if vw.SeesNamed(ctx, a.Hostname) {
			out = append(out, vw.aliasNow(a))
		}
	}
	return out
}

func (vw *Views) aliasNow(a site.Alias) contract.Alias {
	out := contract.Alias{Alias: a}
	p, h, _ := vw.Record.HostnameAt(a.Hostname)
	of, hostnameAsked := vw.Verify.Given(h.ID)
	if hostnameAsked {
		out.HostnameGiven = of.String()
	}
	answers := vw.Verify.Alias(a)
	if answers.Asked {
		out.Given = answers.Given.String()
	}
	out.Same = answers.Asked && hostnameAsked && answers.Given == of
	elsewhere := vw.Verify.Elsewhere(h)
	for _, r := range answers.Resolvers {
		out.Resolvers = append(out.Resolvers, contract.ServerAnswer{Server: r.Server, Given: r.Given.String(),
			Differs: r.Given != p.AnswerOf(h)})
		i := slices.IndexFunc(elsewhere, func(one verify.Answer) bool { return one.Server == r.Server })
		out.Same = out.Same && i >= 0 && elsewhere[i].Given == r.Given
	}
	out.Verdict = diagnose.OfAlias(answers.Asked, out.Same)
	return out
}

// Alias returns one alias.
func (vw *Views) Alias(ctx context.Context, name string) (contract.Alias, error) {
	a, ok := vw.Record.Alias(names.Name(rooms.Canonical(name)))
	if !ok || !vw.SeesNamed(ctx, a.Hostname) {
		return contract.Alias{}, store.Missing{Kind: "alias", Name: name}
	}
	return vw.aliasNow(a), nil
}
