// Package verify proves that names answer what they should: it asks our own server, the primaries of remote zones, secondaries and
// resolvers elsewhere, and knows what each last gave. It owns the states of hostnames and aliases. It never changes an answer.
//
// Any lock may be held when its methods are called, except Run's: they call nobody but the record and Host while no lock of the room is
// held.
package verify

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// Host is what the room asks of the engine.
type Host interface {
	// Answered notes that all names of a site give its addresses at the zone's own servers, and Seen that they do at resolvers.
	Answered(siteID int64, at time.Time)
	Seen(siteID int64, at time.Time)
	// Review looks for faults of a site soon.
	Review(siteID int64)
	// Held reports whether a hostname does not get to the primary of its remote zone.
	Held(h site.Hostname) bool
	// LostIPv6 reports whether a device no longer has the IPv6 address that is on record.
	LostIPv6(deviceID int64) bool
	// Repair pushes a hostname again if somebody changed it at the primary of its remote zone.
	Repair(ctx context.Context, z names.Zone, h site.Hostname) error
}

// Config of the room.
type Config struct {
	NameServer string        // "host:port" of our own DNS server; "" verifies nothing
	Resolvers  []string      // "host:port" of resolvers elsewhere
	Every      time.Duration // how often every hostname is verified again
	Now        func() time.Time
	Log        *slog.Logger
}

// Verifier is the room. It is safe for concurrent use.
type Verifier struct {
	host    Host
	record  *record.Record
	events  *events.Hub
	asks    atomic.Pointer[Servers]
	every   time.Duration
	now     func() time.Time
	log     *slog.Logger
	local   *dnsask.LocalServer
	recheck chan int64
	asking  asking
	names   nameStates
	aliases aliasAnswers
}

// Servers are who is asked, as "host:port": our own DNS server, "" for nobody, and resolvers elsewhere.
type Servers struct {
	Name      string
	Resolvers []string
}

// New returns a room that knows nothing of any name yet.
func New(host Host, rec *record.Record, hub *events.Hub, c Config) *Verifier {
	v := &Verifier{host: host, record: rec, events: hub, every: c.Every, now: c.Now, log: c.Log,
		local: dnsask.NewLocalServer(c.NameServer), recheck: make(chan int64, 4096),
		names:   nameStates{given: map[int64]nameState{}, touched: map[int64]bool{}},
		aliases: aliasAnswers{given: map[int64]map[server]wan.Pair{}}}
	v.ShowServers(Servers{c.NameServer, c.Resolvers})
	return v
}

// Servers returns who is asked.
func (v *Verifier) Servers() Servers { return *v.asks.Load() }

// ShowServers takes over whom another server asks.
func (v *Verifier) ShowServers(s Servers) { v.asks.Store(&s) }

// Published notes that the answer for a hostname was set anew: what was given before proves nothing any more.
func (v *Verifier) Published(hostnameID int64, at time.Time) { v.names.publish(hostnameID, at) }

// Given returns what the zone's own server last gave for a hostname; asked is false when it was not asked since the answer changed.
func (v *Verifier) Given(hostnameID int64) (given wan.Pair, asked bool) {
	s := v.names.of(hostnameID)
	return s.given, s.asked
}

// Elsewhere lists what the zone's other servers and resolvers last gave for a hostname.
func (v *Verifier) Elsewhere(h site.Hostname) (out []Answer) {
	known := v.names.of(h.ID)
	for _, at := range v.servers(h) {
		if r, asked := known.resolvers[at.address]; asked {
			out = append(out, Answer{Server: at.address, Authoritative: at.kind == dnsask.Authoritative, Given: r.given})
		}
	}
	return out
}

// Forget drops what is known of hostnames and aliases that are gone.
func (v *Verifier) Forget(gone record.Gone) {
	v.names.mu.Lock()
	for id := range gone.Hostnames {
		delete(v.names.given, id)
	}
	v.names.mu.Unlock()
	v.aliases.mu.Lock()
	defer v.aliases.mu.Unlock()
	for id := range gone.Aliases {
		delete(v.aliases.given, id)
	}
}

// signal wakes whoever waits for c, without blocking; signals coalesce.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
