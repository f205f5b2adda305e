// Package ports knows external ports at the sites of one provider: where one fails at many of them, the provider does not let it
// through. It calls nobody, and has no locks.
package ports

import (
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// sharedPort is an external port at the sites of one provider.
type sharedPort struct {
	provider string
	udp      bool
	port     int
}

// Seen says of shared ports at which links they work, and at which they are silent.
type Seen map[sharedPort]map[int64]bool

func portOf(s site.Service, l site.Link) (k sharedPort, ok bool) {
	return sharedPort{l.Provider, s.Transport == probe.UDP, s.ExternalFrom}, l.Provider != "" && s.Forwarded() && !s.OnRouter
}

// Note takes in how a service does. Only ports that failed somewhere before are counted; failing collects those that do now.
func (a Seen) Note(before Seen, s site.Service, l site.Link, o probe.Outcome) {
	k, ok := portOf(s, l)
	if !ok || before[k] == nil && o != probe.Silent || !o.Good() && o != probe.Silent {
		return
	}
	if a[k] == nil {
		a[k] = map[int64]bool{}
	}
	a[k][l.ID] = o.Good()
}

// Without leaves out links on which nothing works: that is not about a port.
func (a Seen) Without(alive map[int64]bool) Seen {
	for _, links := range a {
		for id := range links {
			if !alive[id] {
				delete(links, id)
			}
		}
	}
	return a
}

// Elsewhere counts, at other links of a service's provider, those at which its external port works, and those at which it is silent while
// other ports work.
func (a Seen) Elsewhere(s site.Service, l site.Link) (works, silent int) {
	k, ok := portOf(s, l)
	if !ok {
		return 0, 0
	}
	for id, good := range a[k] {
		switch {
		case id == l.ID:
		case good:
			works++
		default:
			silent++
		}
	}
	return works, silent
}
