package authdns

import (
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/miekg/dns"
)

// Zone is one zone's content in memory. Readers never wait; writers take turns.
type Zone struct {
	apex    string
	nodes   atomic.Pointer[map[string]*node]
	soa     atomic.Pointer[soaWire]
	write   sync.Mutex // held by writers, and by whoever needs content and serial to fit together
	journal journal
	// delegates says that some name below the apex has NS records, so that answers have to look for cuts.
	delegates atomic.Bool
}

// node is a name in the zone. Without record sets it is an empty non-terminal (RFC 4592 section 2.2.2): it exists, and
// every question about it has an empty answer.
type node struct {
	sets atomic.Pointer[[]RRset]
}

// soaWire holds the SOA record twice: as an answer, and with the negative TTL of RFC 2308 section 3 for the authority
// section, without an owner.
type soaWire struct {
	record   *dns.SOA
	answer   RRset
	negative []byte
}

// Names maps a name to its record sets.
type Names map[string][]RRset

// NewZone makes a zone from its SOA record and the record sets of its names, the apex's NS set among them.
func NewZone(soa *dns.SOA, content Names) (*Zone, error) {
	apex, err := key(soa.Hdr.Name)
	if err != nil {
		return nil, err
	}
	z := &Zone{apex: apex}
	encoded, err := encodeSOA(soa)
	if err != nil {
		return nil, err
	}
	z.soa.Store(encoded)
	nodes := map[string]*node{apex: {}}
	z.nodes.Store(&nodes)
	return z, z.change(content, nil)
}

// Apex of the zone, as in its SOA record.
func (z *Zone) Apex() string { return z.soa.Load().record.Hdr.Name }

// Serial that the zone answers now.
func (z *Zone) Serial() uint32 { return z.soa.Load().record.Serial }

// Set replaces everything at each name of content and then answers the new serial. A name with no record set is removed.
func (z *Zone) Set(content Names, serial uint32) error {
	return z.change(content, z.soa.Load().withSerial(serial))
}

// withSerial is the same SOA record with another serial, which stands before four other numbers at its end (RFC 1035 section
// 3.3.13).
func (s *soaWire) withSerial(serial uint32) *soaWire {
	patched := func(wire []byte) []byte {
		out := slices.Clone(wire)
		binary.BigEndian.PutUint32(out[len(out)-20:], serial)
		return out
	}
	record := *s.record
	record.Serial = serial
	answer := s.answer
	answer.wire = patched(answer.wire)
	return &soaWire{record: &record, answer: answer, negative: patched(s.negative)}
}

func encodeSOA(soa *dns.SOA) (*soaWire, error) {
	answer, err := NewRRset(soa)
	if err != nil {
		return nil, fmt.Errorf("SOA of %s: %w", soa.Hdr.Name, err)
	}
	low := *soa
	low.Hdr.Ttl = min(soa.Hdr.Ttl, soa.Minttl)
	negative, err := NewRRset(&low)
	if err != nil {
		return nil, err
	}
	return &soaWire{record: soa, answer: answer, negative: negative.wire[2:]}, nil
}

func (z *Zone) change(content Names, soa *soaWire) error {
	z.write.Lock()
	defer z.write.Unlock()
	keyed := make(map[string][]RRset, len(content))
	nodes := *z.nodes.Load()
	grows := false
	for name, sets := range content {
		k, err := key(name)
		if err != nil {
			return err
		}
		if !within(k, z.apex) {
			return fmt.Errorf("name %q is not in zone %s", name, z.Apex())
		}
		keyed[k] = sets
		n, exists := nodes[k]
		grows = grows || !exists || (len(sets) == 0) != (n.sets.Load() == nil)
	}
	if grows { // names come or go: the map that readers hold is left alone and a new one takes its place
		nodes = maps.Clone(nodes)
		for k, sets := range keyed {
			if len(sets) > 0 && nodes[k] == nil {
				nodes[k] = &node{}
			}
		}
	}
	var d delta
	for k, sets := range keyed {
		n := nodes[k]
		if n != nil && soa != nil {
			var before []RRset
			if p := n.sets.Load(); p != nil {
				before = *p
			}
			removed, added := difference(k, before, sets)
			d.removed, d.added = append(d.removed, removed...), append(d.added, added...)
		}
		switch {
		case n == nil:
		case len(sets) == 0:
			n.sets.Store(nil)
		default:
			n.sets.Store(&sets)
		}
	}
	if grows {
		tidy(nodes, z.apex)
		z.nodes.Store(&nodes)
	}
	if delegates(keyed, z.apex) {
		z.delegates.Store(true)
	}
	if soa == nil {
		return nil
	}
	if before := z.soa.Load().record.Serial; before != soa.record.Serial {
		d.from, d.to = before, soa.record.Serial
		z.journal.add(d)
	}
	z.soa.Store(soa)
	return nil
}

func delegates(content map[string][]RRset, apex string) bool {
	for k, sets := range content {
		for _, s := range sets {
			if s.rrtype == dns.TypeNS && k != apex {
				return true
			}
		}
	}
	return false
}

// tidy adds the empty non-terminals between names and the apex, and drops names that neither hold nor lead to anything.
func tidy(nodes map[string]*node, apex string) {
	needed := map[string]bool{apex: true}
	for k, n := range nodes {
		if n.sets.Load() == nil {
			continue
		}
		for ; !needed[k]; k = parent(k) {
			needed[k] = true
		}
	}
	for k := range needed {
		if nodes[k] == nil {
			nodes[k] = &node{}
		}
	}
	for k := range nodes {
		if !needed[k] {
			delete(nodes, k)
		}
	}
}

// parent cuts the first label off a name in wire format.
func parent(k string) string { return k[1+int(k[0]):] }

// within reports whether k is apex or below it, both in wire format.
func within(k, apex string) bool {
	for len(k) > len(apex) {
		k = parent(k)
	}
	return k == apex
}

// Directory holds the zones that a server answers for. Readers never wait.
type Directory struct {
	zones atomic.Pointer[map[string]*Zone]
	write sync.Mutex
}

// Put adds a zone, or takes the place of the one with the same apex.
func (d *Directory) Put(z *Zone) {
	d.edit(func(m map[string]*Zone) { m[z.apex] = z })
}

// Remove stops answering for the zone of that apex.
func (d *Directory) Remove(apex string) {
	if k, err := key(apex); err == nil {
		d.edit(func(m map[string]*Zone) { delete(m, k) })
	}
}

// Keep removes every zone whose apex, without the final dot, keep does not want.
func (d *Directory) Keep(keep func(apex string) bool) {
	gone := func(z *Zone) bool { return !keep(strings.TrimSuffix(z.Apex(), ".")) }
	any := false
	for _, z := range d.Zones() {
		any = any || gone(z)
	}
	if any {
		d.edit(func(m map[string]*Zone) { maps.DeleteFunc(m, func(_ string, z *Zone) bool { return gone(z) }) })
	}
}

// Zones lists the zones.
func (d *Directory) Zones() []*Zone {
	zones := d.zones.Load()
	if zones == nil {
		return nil
	}
	return slices.Collect(maps.Values(*zones))
}

func (d *Directory) edit(f func(map[string]*Zone)) {
	d.write.Lock()
	defer d.write.Unlock()
	next := map[string]*Zone{}
	if now := d.zones.Load(); now != nil {
		next = maps.Clone(*now)
	}
	f(next)
	d.zones.Store(&next)
}

// find gives the zone with the longest apex that the name in wire format stands in.
func (d *Directory) find(name []byte) *Zone {
	zones := d.zones.Load()
	if zones == nil {
		return nil
	}
	for off := 0; off < len(name); off += 1 + int(name[off]) {
		if z := (*zones)[string(name[off:])]; z != nil {
			return z
		}
		if name[off] == 0 {
			break
		}
	}
	return nil
}

// Zone gives the zone of that apex, or nil.
func (d *Directory) Zone(apex string) *Zone {
	k, err := key(apex)
	if zones := d.zones.Load(); err == nil && zones != nil {
		return (*zones)[k]
	}
	return nil
}
