// Package zones keeps what the DNS server answers in line with the record. It owns the directory of hosted zones, the encoded record
// sets that do not follow an address, the TTLs with which hostnames were last published, and the NOTIFY messages to secondaries. It
// never changes the record and never talks to the primaries of remote zones (see package push), but knows what those should have.
//
// Replace, Apply and Publish change answers: whoever calls them holds the engine's publishing lock, so that zones change in the order
// in which the record does. Any lock may be held when the rest is called. Its own lock is held only while memory changes.
package zones

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"time"

	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// Host is what the room asks of the engine.
type Host interface {
	// ExpectedChange returns when the address of a link is expected to change; the zero time stands for unknown.
	ExpectedChange(l site.Link) time.Time
	// Retime publishes the hostnames of sites again because their TTLs are due to change.
	Retime(ctx context.Context, siteIDs []int64) error
	// RaiseSerials makes zones continue after serials that were seen elsewhere, by apex.
	RaiseSerials(ctx context.Context, seen map[string]uint32, where string) error
}

// Zones is the room. It is safe for concurrent use.
type Zones struct {
	host       Host
	record     *record.Record
	directory  *authdns.Directory
	redirectAt []netip.Addr
	now        func() time.Time
	log        *slog.Logger
	notify     chan int64 // zones whose secondaries have to be told

	mu    locks.LeafRW
	fixed map[int64]map[names.Name][]authdns.RRset // by hosted zone and name
	ttls  map[int64]int                            // in seconds, by hostname
}

// New returns a room whose directory is empty: Replace fills it. redirectAt are the addresses that redirect names answer.
func New(host Host, rec *record.Record, directory *authdns.Directory, redirectAt []netip.Addr, now func() time.Time,
	log *slog.Logger) *Zones {
	return &Zones{host: host, record: rec, directory: directory, redirectAt: redirectAt, now: now, log: log, notify: make(chan int64, 4096),
		fixed: map[int64]map[names.Name][]authdns.RRset{}, ttls: map[int64]int{}}
}

// Run notifies secondaries, compares serials with theirs and lowers TTLs ahead of expected changes, until ctx ends.
func (z *Zones) Run(ctx context.Context) {
	var g errgroup.Group
	for _, loop := range []func(context.Context){z.runNotify, z.runSerials, z.runTTLs} {
		g.Go(func() error { loop(ctx); return nil })
	}
	_ = g.Wait()
}

// Replace brings every hosted zone in line with the record and removes those that the record no longer has. Error: a record that cannot be
// encoded.
func (z *Zones) Replace() error {
	hosted := map[string]bool{}
	content := map[int64]authdns.Names{}
	list := z.record.Zones()
	for _, zone := range list {
		if zone.Kind == names.Remote {
			continue
		}
		hosted[string(zone.Apex)] = true
		fixed, err := z.encodeAll(zone)
		if err != nil {
			return err
		}
		z.mu.Lock()
		z.fixed[zone.ID] = fixed
		z.mu.Unlock()
		content[zone.ID] = make(authdns.Names, len(fixed))
		for name, sets := range fixed {
			content[zone.ID][string(name)] = sets
		}
	}
	z.directory.Keep(func(apex string) bool { return hosted[apex] })
	for id, sets := range z.movingSets(z.record.Sites(), AllHostnames) {
		for name, all := range sets {
			if content[id] != nil {
				content[id][name] = all // the fixed sets at the name are among them
			}
		}
	}
	for _, zone := range list {
		if zone.Kind == names.Remote {
			continue
		}
		if err := z.put(zone, content[zone.ID]); err != nil {
			return err
		}
	}
	return nil
}

// put makes content all that a hosted zone holds.
func (z *Zones) put(zone names.Zone, content authdns.Names) error {
	soa := soaOf(zone)
	hosted := z.directory.Zone(string(zone.Apex))
	var err error
	if hosted != nil {
		err = hosted.Replace(soa, content)
	} else if hosted, err = authdns.NewZone(soa, content); err == nil {
		z.directory.Put(hosted)
	}
	if err != nil {
		return fmt.Errorf("zone %s: %w", zone.Apex, err)
	}
	z.tellSecondaries(zone)
	return nil
}

// Apply brings hosted zones in line with a change of the record: only names at which records differ are encoded. Error: a record that
// cannot be encoded.
func (z *Zones) Apply(d record.Diff) error {
	if d.Whole {
		return z.Replace()
	}
	for _, c := range d.Zones {
		if err := z.apply(c, d.Names(c.Before.ID|c.After.ID)); err != nil {
			return err
		}
	}
	return nil
}

func (z *Zones) apply(c record.ZoneChange, at []names.Name) error {
	switch {
	case c.After.ID == 0:
		z.mu.Lock()
		delete(z.fixed, c.Before.ID)
		z.mu.Unlock()
		if c.Before.Kind != names.Remote && c.Before.Apex != "" {
			z.directory.Remove(string(c.Before.Apex))
		}
		return nil
	case c.After.Kind == names.Remote:
		return nil
	case c.Before.ID == 0 || z.directory.Zone(string(c.After.Apex)) == nil:
		fixed, err := z.encodeAll(c.After)
		if err != nil {
			return err
		}
		z.mu.Lock()
		z.fixed[c.After.ID] = fixed
		z.mu.Unlock()
		content := make(authdns.Names, len(fixed))
		for name, sets := range fixed {
			content[string(name)] = sets
		}
		for name, all := range z.movingSets(z.record.Sites(), AllHostnames)[c.After.ID] {
			content[name] = all
		}
		return z.put(c.After, content)
	}
	for _, side := range []names.Zone{c.Before, c.After} { // the zone's own servers may be others
		at = append(at, side.Apex)
		for _, s := range side.Servers {
			if s.Name.Within(side.Apex) {
				at = append(at, s.Name)
			}
		}
	}
	content := make(authdns.Names, len(at))
	for _, name := range at {
		sets, err := z.encodeAt(c.After, name)
		if err != nil {
			return err
		}
		z.setFixed(c.After.ID, name, sets)
		content[string(name)] = append(z.addressSetsAt(c.After, name), sets...)
	}
	if err := z.directory.Zone(string(c.After.Apex)).Update(soaOf(c.After), content); err != nil {
		return fmt.Errorf("zone %s: %w", c.After.Apex, err)
	}
	z.tellSecondaries(c.After)
	return nil
}

func (z *Zones) setFixed(zoneID int64, name names.Name, sets []authdns.RRset) {
	z.mu.Lock()
	defer z.mu.Unlock()
	if len(sets) == 0 {
		delete(z.fixed[zoneID], name)
		return
	}
	if z.fixed[zoneID] == nil {
		z.fixed[zoneID] = map[names.Name][]authdns.RRset{}
	}
	z.fixed[zoneID][name] = sets
}

// Touched picks the hostnames of a site whose answers an address change may have touched.
type Touched func(record.Site) []site.Hostname

// AllHostnames is Touched for every hostname.
func AllHostnames(p record.Site) []site.Hostname { return p.Hostnames }

// Publish sets the answers of those hostnames of some sites that were touched, and the serials of their zones, in place. Error: a zone that
// is not hosted.
func (z *Zones) Publish(changed []record.Site, touched Touched, serials map[int64]uint32) error {
	content := z.movingSets(changed, touched)
	for id, serial := range serials {
		zone := z.record.Zone(id)
		if zone.Kind == names.Remote {
			continue
		}
		hosted := z.directory.Zone(string(zone.Apex))
		if hosted == nil {
			return fmt.Errorf("zone %s is not hosted", zone.Apex)
		}
		if err := hosted.Set(content[id], serial); err != nil {
			return err
		}
		z.tellSecondaries(zone)
	}
	return nil
}

// Forget drops what is kept of hostnames that are gone.
func (z *Zones) Forget(gone record.Gone) {
	z.mu.Lock()
	defer z.mu.Unlock()
	for id := range gone.Hostnames {
		delete(z.ttls, id)
	}
}
