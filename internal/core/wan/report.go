package wan

import (
	"net/netip"
	"time"
)

// Report is what one source said at one moment.
type Report struct {
	Source    Source
	Via       string // how it was learned: the protocol that answered, a server's address, or an interface's name
	Addresses Pair
	At        time.Time
	Problem   string // why the source said nothing; "" if it did
}

// SeenFromOutside reports whether a source sees the link from outside. Others repeat what somebody inside was told.
func (s Source) SeenFromOutside() bool { return s == SourceObserved || s == SourceSTUN }

// Of returns the address of one family.
func (p Pair) Of(six bool) netip.Addr {
	if six {
		return p.IPv6
	}
	return p.IPv4
}

// With returns the pair with another address of one family.
func (p Pair) With(six bool, a netip.Addr) Pair {
	if six {
		p.IPv6 = a
	} else {
		p.IPv4 = a
	}
	return p
}

// Dissent names a source that does not agree with what was decided, or that cannot be right, and says why.
type Dissent struct {
	Source  Source
	Via     string
	Address netip.Addr
	Words   string
}
