package siteside

import (
	"net/netip"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// linkDocument is how a link report is stored.
type linkDocument struct {
	NAT      wan.Verdict       `json:"nat"`
	Words    string            `json:"words,omitempty"`
	Remedies []string          `json:"remedies,omitempty"`
	Chain    []netip.Addr      `json:"chain,omitempty"`
	Router   netip.Addr        `json:"router_address,omitzero"`
	Reason   string            `json:"reason,omitempty"`
	Held     string            `json:"held,omitempty"`
	Sources  []sourceDocument  `json:"sources,omitempty"`
	Agent    string            `json:"agent,omitempty"`
	Protocol int               `json:"protocol,omitempty"`
	Up       time.Time         `json:"up_since,omitzero"`
	Resolver string            `json:"resolver,omitempty"`
	Cannot   []string          `json:"cannot,omitempty"`
	Reported time.Time         `json:"reported,omitzero"`
	Refused  []refusalDocument `json:"refused,omitempty"`
	Rhythm   float64           `json:"rhythm_seconds,omitempty"`
	OwnIPv4  netip.Addr        `json:"own_ipv4,omitzero"`
	OwnIPv6  netip.Addr        `json:"own_ipv6,omitzero"`
}

type sourceDocument struct {
	Source    wan.Source `json:"source"`
	Via       string     `json:"via,omitempty"`
	Addresses string     `json:"addresses,omitempty"`
	At        time.Time  `json:"at,omitzero"`
	Problem   string     `json:"problem,omitempty"`
	Dissent   string     `json:"dissent,omitempty"`
}

type refusalDocument struct {
	Reason   string     `json:"reason"`
	From     netip.Addr `json:"from,omitzero"`
	Count    int        `json:"count"`
	Stranger bool       `json:"stranger,omitempty"`
	First    time.Time  `json:"first"`
	Last     time.Time  `json:"last"`
}

func documentOf(r site.LinkReport) linkDocument {
	d := linkDocument{NAT: r.NAT.Verdict, Words: r.NAT.Words, Remedies: r.NAT.Remedies, Chain: r.NAT.Chain, Router: r.NAT.RouterWAN,
		Reason: r.Reason, Held: r.Held,
		Agent: r.Agent, Protocol: r.Protocol, Up: r.Up, Resolver: r.Resolver, Cannot: r.Cannot, Reported: r.Reported,
		Rhythm:  r.Rhythm.Seconds(),
		OwnIPv4: r.Own.IPv4, OwnIPv6: r.Own.IPv6}
	for _, one := range r.Sources {
		d.Sources = append(d.Sources, sourceDocument{one.Source, one.Via, one.Addresses.String(), one.At, one.Problem, one.Dissent})
	}
	for _, one := range r.Refused {
		d.Refused = append(d.Refused, refusalDocument(one))
	}
	return d
}

func (d linkDocument) report() site.LinkReport {
	r := site.LinkReport{NAT: wan.NAT{Verdict: d.NAT, Words: d.Words, Remedies: d.Remedies, Chain: d.Chain, RouterWAN: d.Router},
		Reason: d.Reason, Held: d.Held,
		Agent: d.Agent, Protocol: d.Protocol, Up: d.Up, Resolver: d.Resolver, Cannot: d.Cannot, Reported: d.Reported,
		Rhythm: time.Duration(d.Rhythm * float64(time.Second)),
		Own:    wan.Pair{IPv4: d.OwnIPv4, IPv6: d.OwnIPv6}}
	for _, one := range d.Sources {
		var pair wan.Pair
		for _, word := range strings.FieldsFunc(one.Addresses, func(c rune) bool { return c == ',' || c == ' ' }) {
			if a, err := netip.ParseAddr(word); err == nil {
				pair = pair.With(a.Is6(), a)
			}
		}
		r.Sources = append(r.Sources, site.SourceReport{Source: one.Source, Via: one.Via, Addresses: pair, At: one.At,
			Problem: one.Problem, Dissent: one.Dissent})
	}
	for _, one := range d.Refused {
		r.Refused = append(r.Refused, site.Refusal(one))
	}
	return r
}
