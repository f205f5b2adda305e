package authdns

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// held is what a secondary has of a zone.
type held struct {
	serial  uint32
	records map[record]bool
}

func holds(z *Zone) held {
	soa, all := z.snapshot()
	h := held{soa.Serial, map[record]bool{}}
	for _, r := range all {
		h.records[r] = true
	}
	return h
}

// apply does to a copy what RFC 1995 section 4 says: each difference in turn, what it takes away before what it brings.
func (h held) apply(t *testing.T, list []delta) held {
	h.records = maps.Clone(h.records)
	for _, d := range list {
		require.Equal(t, h.serial, d.from, "differences follow one another")
		for _, r := range d.removed {
			require.True(t, h.records[r], "a record is removed that is there")
			delete(h.records, r)
		}
		for _, r := range d.added {
			require.False(t, h.records[r], "a record is added that is not there")
			h.records[r] = true
		}
		h.serial = d.to
	}
	return h
}

func start(t *testing.T, serial uint32, negative int) *dns.SOA {
	return rr(t, fmt.Sprintf("%s 300 SOA ns1.elsewhere.example. hostmaster.%s %d 3600 300 1209600 %d", apex, apex, serial,
		negative)).(*dns.SOA)
}

// change makes a random change: some names get records, some lose theirs, now and then the whole zone is replaced.
func change(t *testing.T, r *rand.Rand, z *Zone, serial uint32) {
	content := Names{}
	for range 1 + r.IntN(6) {
		name := fmt.Sprintf("site-%d.%s", r.IntN(12), apex)
		var sets []RRset
		if r.IntN(3) > 0 {
			sets = append(sets, set(t, fmt.Sprintf("%s %d A 198.51.100.%d", name, 30+30*r.IntN(2), 1+r.IntN(3))))
		}
		if r.IntN(3) == 0 {
			sets = append(sets, set(t, fmt.Sprintf("%s 300 TXT \"%d\"", name, r.IntN(2))))
		}
		content[name] = sets
	}
	if r.IntN(5) == 0 {
		content[apex] = []RRset{set(t, apex+" 300 NS ns1.elsewhere.example.")}
		require.NoError(t, z.Replace(start(t, serial, 30+r.IntN(2)), content))
		return
	}
	require.NoError(t, z.Set(content, serial))
}

// Whatever happened meanwhile, a secondary that takes the differences since what it has ends with what one has that takes the whole
// zone; also where serials wrap around (RFC 1982).
func TestDifferencesLeadToTheWholeZone(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 14))
		serial := uint32(1<<32 - 20)
		z, err := NewZone(start(t, serial, 30), Names{apex: {set(t, apex+" 300 NS ns1.elsewhere.example.")}})
		require.NoError(t, err)
		copies := []held{holds(z)}
		for range 40 {
			serial += 1 + uint32(r.IntN(3))
			change(t, r, z, serial)
			copies = append(copies, holds(z))
		}
		now := copies[len(copies)-1]
		for i, c := range copies {
			list, ok := z.journal.since(c.serial)
			if i == len(copies)-1 {
				require.Empty(t, list)
				continue
			}
			require.True(t, ok, "serial %d is remembered", c.serial)
			require.Equal(t, now, c.apply(t, list), "seed %d, from copy %d", seed, i)
		}
		require.True(t, slices.IsSortedFunc(copies, func(a, b held) int { return int(int32(a.serial - b.serial)) }))
	}
}
