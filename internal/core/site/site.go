// Package site computes with what is on a site's record: links, devices, services, hostnames, and what is legal of them.
package site

import (
	"iter"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

// Site is a customer's premises. Code is its short label, unique and in upper case.
type Site struct {
	ID      int64     `json:"id" db:"id"`
	Code    string    `json:"code" db:"code"`
	Name    string    `json:"name" db:"name"`
	Note    string    `json:"note" db:"note"`
	Router  string    `json:"router" db:"router"` // make of the router, and where it stands
	Tags    []string  `json:"tags" db:"-"`        // put sites together: for planned work, and for who is told
	Created time.Time `json:"created" db:"created_at"`
	// Revision goes up with every edit; so in all that a site has.
	Revision int64 `json:"revision" db:"revision"`
}

// Mode of a link.
type Mode string

// The modes: the provider changes the address, or it does not and an operator typed it.
const (
	Dynamic Mode = "dynamic"
	Static  Mode = "static"
)

// Link is one internet connection of a site. Position orders a site's links by preference, 1 first. Times are zero if nothing happened yet.
type Link struct {
	ID       int64      `json:"id"`
	SiteID   int64      `json:"-"`
	Label    string     `json:"label"`
	Provider string     `json:"provider"`
	Mode     Mode       `json:"mode"`
	Position int        `json:"position"`
	IPv4     netip.Addr `json:"ipv4,omitzero"`
	IPv6     netip.Addr `json:"ipv6,omitzero"`
	Since    time.Time  `json:"since,omitzero"`
	Heard    time.Time  `json:"heard,omitzero"`
	Source   wan.Source `json:"source,omitzero"`
	Agent    bool       `json:"agent"`
	ChangeAt time.Time  `json:"change_at,omitzero"` // when the provider is expected to change the address
	// RouterWAN is the router's WAN address where no protocol tells it and somebody typed it.
	RouterWAN netip.Addr `json:"router_address,omitzero"`
	// Contract is the number that the provider knows the line by.
	Contract string `json:"contract,omitempty"`
	// MayMap lets Ink Post ask the router for a mapping for a moment, to see where what is sent to a failing port gets lost.
	MayMap bool `json:"may_map,omitempty"`
	// Sources are the ways of learning the address, the most trusted first; empty stands for the usual ones.
	Sources []wan.Source `json:"sources,omitempty"`
	// Failing reports whether the link is down at present: what follows the preferred link uses the next one.
	Failing bool `json:"failing,omitempty"`
	// Dynamic is the range of LAN addresses that the router gives out, both ends included.
	Dynamic  Range `json:"-"`
	Revision int64 `json:"revision"`
}

// Addresses of the link.
func (l Link) Addresses() wan.Pair { return wan.Pair{IPv4: l.IPv4, IPv6: l.IPv6} }

// Device is a machine on the site's LAN. Reserved reports whether the router always gives it this LAN address.
type Device struct {
	ID       int64      `json:"id"`
	SiteID   int64      `json:"-"`
	Name     string     `json:"name"`
	MAC      string     `json:"mac"`
	Address  netip.Addr `json:"lan_address,omitzero"`
	Reserved bool       `json:"reserved"`
	// IPv6 is its current global address, as an agent sees it.
	IPv6 netip.Addr `json:"ipv6,omitzero"`
	// Router reports whether the device is the site's router: what it offers needs no forward.
	Router bool `json:"router"`
	// Kit is the kit that it was put on record by; "" for none.
	Kit      string `json:"kit,omitempty"`
	Revision int64  `json:"revision"`
}

// Service is one exposed thing. ExternalTo is ExternalFrom for a single port; a range maps one to one from InternalFrom.
// Interval is in seconds. LinkID 0 follows the site's preferred link.
type Service struct {
	ID           int64           `json:"id"`
	SiteID       int64           `json:"-"`
	DeviceID     int64           `json:"-"`
	LinkID       int64           `json:"-"`
	Name         string          `json:"name"`
	Device       string          `json:"device"`
	Link         string          `json:"link,omitempty"`
	Kind         probe.Kind      `json:"kind"`
	Transport    probe.Transport `json:"transport"`
	ExternalFrom int             `json:"-"`
	ExternalTo   int             `json:"-"`
	InternalFrom int             `json:"-"`
	Expected     probe.Expected  `json:"expected"`
	Reach        Reach           `json:"reach,omitempty"`
	Interval     int             `json:"interval_seconds"`
	// Options are what a probe asks and expects, beyond the kind.
	Options probe.SharedOptions `json:"-"`
	// InUse says that somebody says so: that it does not answer is a fault even before it was first proven from outside.
	InUse bool `json:"in_use,omitempty"`
	// OpenUntil is when a port that was opened for a while must be closed again; zero for one that stays as it is.
	OpenUntil time.Time `json:"open_until,omitzero"`
	// Fingerprint is what the service is recognised by, since when, and who pinned it.
	Fingerprint string    `json:"fingerprint,omitempty"`
	Pinned      time.Time `json:"pinned,omitzero"`
	PinnedBy    string    `json:"pinned_by,omitempty"`
	// ProbeKey is the private key with which a WireGuard server knows us, in base64.
	ProbeKey string `json:"-"`
	// OnRouter reports whether its device is the site's router.
	OnRouter bool `json:"on_router,omitempty"`
	// Revision is that of the record which is probed: results for another revision do not count.
	Revision int64 `json:"revision"`
}

// ExpectedAt is what the port should be at a time: one that was opened for a while must be closed afterwards.
func (s Service) ExpectedAt(now time.Time) probe.Expected {
	if !s.OpenUntil.IsZero() && !now.Before(s.OpenUntil) {
		return probe.ExpectClosed
	}
	return s.Expected
}

// RuleAt is how the service is judged at a time.
func (s Service) RuleAt(now time.Time) probe.Rule {
	every := time.Duration(s.Interval) * time.Second
	return probe.Rule{Expected: s.ExpectedAt(now), Mute: s.Mute(), Sustain: pace.Sustain(every), Stale: pace.Stale(every)}
}

// Mute reports whether a service that works may well leave every probe of it without an answer.
func (s Service) Mute() bool {
	for _, t := range s.Transport.Each() {
		if !probe.Mute(s.Kind.On(t), s.Options.Get()) {
			return false
		}
	}
	return true
}

// Hostname is a name that follows a link, or the site's preferred working link where LinkID is 0.
type Hostname struct {
	ID     int64      `json:"id"`
	ZoneID int64      `json:"-"`
	SiteID int64      `json:"-"`
	LinkID int64      `json:"-"`
	Name   names.Name `json:"name"`
	Zone   names.Name `json:"zone"`
	Site   string     `json:"site"`
	Link   string     `json:"link,omitempty"`
	TTL    int        `json:"ttl_seconds"`
	Extras []string   `json:"extras,omitempty"` // labels below it with the same addresses: "www", "*"
	Mail   names.Name `json:"mail,omitempty"`   // host that takes its mail (MX); "" for none
	// HoldBy says who holds it at the addresses Hold while its link moves; "" when it follows.
	HoldBy Holder   `json:"hold_by,omitempty"`
	Hold   wan.Pair `json:"-"`
	// Device is the device whose own IPv6 address is the hostname's AAAA; "" if that is the link's.
	DeviceID int64  `json:"-"`
	Device   string `json:"device,omitempty"`
	Revision int64  `json:"revision"`
}

// Holder is who holds a hostname where it is.
type Holder string

// The holders. What an announcement holds, the next one of the same link lets go; what an operator holds stays.
const (
	HoldByOperator     Holder = "operator"
	HoldByAnnouncement Holder = "announcement"
)

// Answer returns the addresses of a hostname whose link has the addresses of.
func (h Hostname) Answer(of wan.Pair) wan.Pair {
	if h.HoldBy != "" {
		return h.Hold
	}
	return of
}

// Alias is a name that stands for a hostname (CNAME).
type Alias struct {
	ID         int64      `json:"id"`
	ZoneID     int64      `json:"-"`
	HostnameID int64      `json:"-"`
	SiteID     int64      `json:"-"`
	Name       names.Name `json:"name"`
	Zone       names.Name `json:"zone"`
	Hostname   names.Name `json:"hostname"`
	Site       string     `json:"site"`
	TTL        int        `json:"ttl_seconds"`
	Revision   int64      `json:"revision"`
}

// Records returns what a hostname puts into its zone. Its addresses, which move, are left out of the A records: those are there so that the
// names can be checked against others.
func (h Hostname) Records() []names.Record {
	out := []names.Record{{Name: h.Name, Type: "A", TTL: h.TTL}}
	for _, label := range h.Extras {
		out = append(out, names.Record{Name: names.Name(label) + "." + h.Name, Type: "A", TTL: h.TTL})
	}
	if h.Mail != "" {
		out = append(out, names.Record{Name: h.Name, Type: "MX", TTL: h.TTL, Data: "10 " + string(h.Mail) + "."})
	}
	return out
}

// Owners lists the names at which the hostname has address records: its own, then those of its extra labels.
func (h Hostname) Owners() []names.Name {
	out := make([]names.Name, 0, 1+len(h.Extras))
	out = append(out, h.Name)
	for _, label := range h.Extras {
		out = append(out, names.Name(label)+"."+h.Name)
	}
	return out
}

// Preferred picks, among a site's links, the first in order of preference that has an address and works; failing that, the first
// that has an address; failing that, the first. ok is false for a site without links.
func Preferred(links iter.Seq[Link]) (best Link, ok bool) {
	rank := func(l Link) int {
		switch {
		case !l.Addresses().Known():
			return 2
		case l.Failing:
			return 1
		}
		return 0
	}
	for l := range links {
		if !ok || rank(l) < rank(best) || rank(l) == rank(best) && l.Position < best.Position {
			best, ok = l, true
		}
	}
	return best, ok
}
