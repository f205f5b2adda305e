package authdns

import (
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"maps"
	"math"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/miekg/dns"
)

// Zone is one zone's content in memory. Readers never wait; writers take turns.
type Zone struct {
	apex    string
	nodes   nodeTable
	soa     atomic.Pointer[soaWire]
	write   sync.Mutex // held by writers, and by whoever needs content and serial to fit together
	journal journal
	// delegates says that some name below the apex has NS records, so that answers have to look for cuts.
	delegates atomic.Bool
}

// node is a name in the zone. Without record sets it is an empty non-terminal (RFC 4592 section 2.2.2): it exists, and
// every question about it has an empty answer.
type node struct {
	name     string // in wire format, lower case
	sets     atomic.Pointer[[]RRset]
	children int // names one label longer; only writers look at it
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

// NewZone makes a zone from its SOA record and the record sets of its names, the apex's NS set among them. Error: a name or record that
// cannot be encoded.
func NewZone(soa *dns.SOA, content Names) (*Zone, error) {
	apex, err := key(soa.Hdr.Name)
	if err != nil {
		return nil, err
	}
	z := &Zone{apex: apex}
	z.nodes.seed, z.nodes.mask = maphash.MakeSeed(), math.MaxUint64
	encoded, err := encodeSOA(soa)
	if err != nil {
		return nil, err
	}
	z.soa.Store(encoded)
	first := nodeEdit{table: &z.nodes, apex: apex}
	first.add(apex)
	first.commit()
	return z, z.change(content, nil)
}

// Apex of the zone, as in its SOA record.
func (z *Zone) Apex() string { return z.soa.Load().record.Hdr.Name }

// Serial that the zone answers now.
func (z *Zone) Serial() uint32 { return z.soa.Load().record.Serial }

// Set replaces everything at each name of content and then answers the new serial. A name with no record set is removed. Error: a name that
// cannot be encoded; nothing changes then.
func (z *Zone) Set(content Names, serial uint32) error {
	return z.change(content, z.soa.Load().withSerial(serial))
}

// Update replaces everything at each name of content and then answers with another SOA record. A name with no record set is removed. Error:
// a name or record that cannot be encoded; nothing changes then.
func (z *Zone) Update(soa *dns.SOA, content Names) error {
	encoded, err := encodeSOA(soa)
	if err != nil {
		return err
	}
	return z.change(content, encoded)
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
	for name, sets := range content {
		k, err := key(name)
		if err != nil {
			return err
		}
		if !within(k, z.apex) {
			return fmt.Errorf("name %q is not in zone %s", name, z.Apex())
		}
		keyed[k] = sets
	}
	edit := nodeEdit{table: &z.nodes, apex: z.apex}
	var d delta
	var emptied []string
	for k, sets := range keyed {
		n := edit.at(k)
		if n == nil {
			if len(sets) == 0 {
				continue
			}
			n = edit.add(k)
		}
		before := n.sets.Load()
		if soa != nil {
			var old []RRset
			if before != nil {
				old = *before
			}
			removed, added := difference(k, old, sets)
			d.removed, d.added = append(d.removed, removed...), append(d.added, added...)
		}
		if len(sets) > 0 {
			n.sets.Store(together(sets))
		} else if before != nil {
			n.sets.Store(nil)
			emptied = append(emptied, k)
		}
	}
	for _, k := range emptied {
		edit.tidy(k)
	}
	edit.commit()
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

// single is a name's only set and its records in one piece of memory: most names hold one address, and what an answer reads lies together.
type single struct {
	sets []RRset
	set  [1]RRset
	wire [fixedSize + net.IPv6len]byte
}

// together returns the sets of a name, in one piece where that can be.
func together(sets []RRset) *[]RRset {
	if len(sets) != 1 || len(sets[0].wire) > len(single{}.wire) {
		return &sets
	}
	one := &single{set: [1]RRset(sets)}
	one.set[0].wire = append(one.wire[:0], sets[0].wire...)
	one.sets = one.set[:]
	return &one.sets
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

// Put adds a zone, replacing any with the same apex.
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

// find returns the zone with the longest apex that the name in wire format stands in.
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

// Zone returns the zone of that apex, or nil.
func (d *Directory) Zone(apex string) *Zone {
	k, err := key(apex)
	if zones := d.zones.Load(); err == nil && zones != nil {
		return (*zones)[k]
	}
	return nil
}
