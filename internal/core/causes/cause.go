package causes

import (
	"maps"
	"slices"
)

// Slug names a cause. It does not change.
type Slug string

// Hop is a station on the way from outside to a service.
type Hop string

// The hops, in the order in which a connection meets them.
const (
	HopVantage  Hop = "vantage"
	HopHostname Hop = "hostname"
	HopAddress  Hop = "address"
	HopUpstream Hop = "upstream"
	HopForward  Hop = "forward"
	HopDevice   Hop = "device"
	HopService  Hop = "service"
)

// Hops lists the hops in order.
func Hops() []Hop {
	return []Hop{HopVantage, HopHostname, HopAddress, HopUpstream, HopForward, HopDevice, HopService}
}

func (h Hop) place() int { return slices.Index(Hops(), h) }

// Actor is who can mend a cause.
type Actor string

// The actors.
const (
	AtTheDesk   Actor = "desk"     // the installer, from where they are
	OnSite      Actor = "on site"  // somebody at the customer's
	TheProvider Actor = "provider" // the internet provider
	Nobody      Actor = "wait"     // nobody: it passes
)

// Scope is how much a cause takes with it.
type Scope uint8

// The scopes, from the narrowest. A cause of a router, modem, site or provider takes the whole link.
const (
	ScopeService Scope = iota
	ScopeDevice
	ScopeRouter
	ScopeModem
	ScopeLink
	ScopeSite
	ScopeProvider
	ScopeZone
	ScopeHostname
	ScopeVantage
)

var scopeWords = [...]string{"service", "device", "router", "modem", "link", "site", "provider", "zone", "hostname", "vantage point"}

// String names the scope.
func (s Scope) String() string { return scopeWords[s] }

// Wide reports whether a cause takes all services of a link.
func (s Scope) Wide() bool { return s >= ScopeRouter && s <= ScopeProvider }

// Predictions hold, by sign, the values that a cause may bring about.
type Predictions map[Sign]Set

// but returns the predictions with another one of a sign.
func (p Predictions) but(s Sign, set Set) Predictions {
	out := maps.Clone(p)
	out[s] = set
	return out
}

// Cause is one row of the table.
type Cause struct {
	Slug  Slug
	Hop   Hop
	Actor Actor
	Scope Scope
	// Weight is how common the cause is, in faults of a thousand looked at. 0: it is seen directly, and takes no part in the ranking.
	Weight float64
	// Soon: it can wait for the next visit, as customers are not cut off.
	Soon bool
	// So says what is so, and Next what to do, with the places of Place.
	So, Next string
	Predicts Predictions
	sets     [signCount]Set // the same, quicker to look up
}

// Ranked reports whether the cause is found by ranking, and not seen directly.
func (c Cause) Ranked() bool { return c.Weight > 0 }

var table = complete(slices.Concat(siteCauses, addressCauses, upstreamCauses, lineCauses, forwardCauses, deviceCauses, serviceCauses,
	nameCauses, otherCauses))

// complete adds what goes without saying: a fault of a site is seen by all vantage points, and nothing gets in through a provider's NAT.
func complete(list []Cause) []Cause {
	for i, c := range list {
		if c.Ranked() && c.Predicts[Vantages] == 0 {
			c.Predicts[Vantages] = of(All)
		}
		if c.Ranked() && c.Predicts[NAT] == 0 && c.Hop.place() >= HopUpstream.place() {
			c.Predicts[NAT] = of(Direct, Double) // behind the provider's NAT, that is the cause
		}
		for s, set := range c.Predicts {
			list[i].sets[s] = set
		}
	}
	return list
}

// Table lists all causes.
func Table() []Cause { return slices.Clone(table) }

// Find returns the cause with a slug; ok is false if there is none.
func Find(slug Slug) (c Cause, ok bool) {
	i := slices.IndexFunc(table, func(c Cause) bool { return c.Slug == slug })
	if i < 0 {
		return c, false
	}
	return table[i], true
}

// Slugs lists the slugs of all causes.
func Slugs() []Slug {
	out := make([]Slug, len(table))
	for i, c := range table {
		out[i] = c.Slug
	}
	return out
}
