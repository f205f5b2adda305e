package authdns

import (
	"bytes"
	"encoding/binary"
	"errors"
	"maps"
	"slices"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// record is one record of a zone: its owner in wire format, and the rest of it (type, class, TTL, data) as in an answer.
type record struct {
	owner string
	rest  string
}

// delta is what one change of a zone took away and brought (RFC 1995 section 4).
type delta struct {
	from, to       uint32
	removed, added []record
}

// maxJournal bounds how many records of past changes a zone remembers. A secondary that is further behind gets the whole
// zone.
const maxJournal = 50_000

// journal remembers a zone's newest changes, in order.
type journal struct {
	deltas  []delta
	records int
}

func (j *journal) add(d delta) {
	j.deltas = append(j.deltas, d)
	j.records += len(d.removed) + len(d.added) + 1
	for j.records > maxJournal {
		first := &j.deltas[0]
		j.records -= len(first.removed) + len(first.added) + 1
		*first = delta{}        // lets its records go
		j.deltas = j.deltas[1:] // append reallocates now and then, and leaves the front behind
	}
}

// since returns the changes that lead from a serial to now. ok is false if they are not remembered.
func (j *journal) since(serial uint32) (list []delta, ok bool) {
	for i := range j.deltas {
		if j.deltas[i].from == serial {
			return slices.Clone(j.deltas[i:]), true
		}
	}
	return nil, false
}

// recordsOf splits sets at an owner into single records.
func recordsOf(owner string, sets []RRset) (out []record) {
	for _, s := range sets {
		for b := s.wire; len(b) > 0; {
			size := fixedSize + int(binary.BigEndian.Uint16(b[10:]))
			out = append(out, record{owner, string(b[2:size])})
			b = b[size:]
		}
	}
	return out
}

// difference returns what stands in before and not in after, and the other way round.
func difference(owner string, before, after []RRset) (removed, added []record) {
	if sameSets(before, after) {
		return nil, nil
	}
	a, b := recordsOf(owner, before), recordsOf(owner, after)
	for _, r := range a {
		if !slices.Contains(b, r) {
			removed = append(removed, r)
		}
	}
	for _, r := range b {
		if !slices.Contains(a, r) {
			added = append(added, r)
		}
	}
	return removed, added
}

func sameSets(a, b []RRset) bool {
	return slices.EqualFunc(a, b, func(x, y RRset) bool { return x.rrtype == y.rrtype && bytes.Equal(x.wire, y.wire) })
}

// Replace makes content all that the zone holds, under the given SOA record. What differs is remembered for secondaries. Error: a name that
// cannot be encoded; nothing changes then.
func (z *Zone) Replace(soa *dns.SOA, content Names) error {
	whole := make(Names, len(content))
	keyed := make(map[string]bool, len(content))
	for name, sets := range content {
		k, err := key(name)
		if err != nil {
			return err
		}
		keyed[k], whole[name] = true, sets
	}
	var failed error
	z.nodes.each(func(n *node) {
		if n.sets.Load() != nil && !keyed[n.name] {
			name, _, err := dns.UnpackDomainName([]byte(n.name), 0)
			failed = errors.Join(failed, err)
			whole[name] = nil
		}
	})
	if failed != nil {
		return failed
	}
	encoded, err := encodeSOA(soa)
	if err != nil {
		return err
	}
	return z.change(whole, encoded)
}

// snapshot returns everything in the zone at one serial, the SOA record apart, in an order that is always the same.
func (z *Zone) snapshot() (soa *dns.SOA, all []record) {
	z.write.Lock()
	defer z.write.Unlock()
	held := make(map[string][]RRset, z.nodes.count.Load())
	z.nodes.each(func(n *node) {
		if sets := n.sets.Load(); sets != nil {
			held[n.name] = *sets
		}
	})
	for _, k := range slices.Sorted(maps.Keys(held)) {
		all = append(all, recordsOf(k, held[k])...)
	}
	return z.soa.Load().record, all
}

// changes returns what leads from a serial to now. ok is false if that is not remembered, or would be longer than the zone itself; where
// the serial is not older than ours, there is nothing to give and list is empty.
func (z *Zone) changes(serial uint32) (soa *dns.SOA, list []delta, ok bool) {
	z.write.Lock()
	defer z.write.Unlock()
	soa = z.soa.Load().record
	if !names.SerialAfter(soa.Serial, serial) {
		return soa, nil, true
	}
	list, ok = z.journal.since(serial)
	size := 0
	for _, d := range list {
		size += len(d.removed) + len(d.added) + 2
	}
	return soa, list, ok && size <= int(z.nodes.count.Load())+64
}

// Records returns everything at one name of the zone, the SOA record too; nothing where the name does not exist. Error: a name that cannot
// be encoded.
func (z *Zone) Records(name string) ([]dns.RR, error) {
	k, err := key(name)
	if err != nil {
		return nil, err
	}
	z.write.Lock()
	defer z.write.Unlock()
	var out []dns.RR
	if k == z.apex {
		out = append(out, dns.Copy(z.soa.Load().record))
	}
	n := z.nodes.at([]byte(k))
	if n == nil {
		return out, nil
	}
	sets := n.sets.Load()
	if sets == nil {
		return out, nil
	}
	for _, r := range recordsOf(k, *sets) {
		rr, _, err := dns.UnpackRR([]byte(r.owner+r.rest), 0)
		if err != nil {
			return nil, err
		}
		out = append(out, rr)
	}
	return out, nil
}
