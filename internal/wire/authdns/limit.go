package authdns

import (
	"encoding/binary"
	"hash/maphash"
	"net/netip"
	"sync/atomic"
	"time"
)

// Limit bounds how many answers a second one client network gets over UDP, so that the server is no amplifier for forged addresses. TCP
// proves who asks, and is not limited.
type Limit struct {
	PerSecond int            // answers to one network; 0 does not limit
	Exempt    []netip.Prefix // networks that are not limited
}

// Client networks are counted as a whole: who can forge one address of a network can forge all of them.
const (
	network4 = 24
	network6 = 56
)

// slip lets every second answer over the limit out as a truncated one, which sends a real client to TCP.
const slip = 2

type verdict int

const (
	pass verdict = iota
	cutShort
	silent
)

// limiter counts in a table of fixed size: a tag of the network, the second, and the count share one word, so that
// counting is one atomic exchange. Two networks that meet in one place displace each other and are counted too low.
type limiter struct {
	limit Limit
	seed  maphash.Seed
	table [1 << 14]atomic.Uint64
}

func newLimiter(l Limit) *limiter {
	if l.PerSecond <= 0 {
		return nil
	}
	return &limiter{limit: l, seed: maphash.MakeSeed()}
}

// take counts one answer to a client at now. A nil limiter passes everything.
func (l *limiter) take(client netip.Addr, now time.Time) verdict {
	if l == nil {
		return pass
	}
	client = client.Unmap()
	for _, p := range l.limit.Exempt {
		if p.Contains(client) {
			return pass
		}
	}
	raw := client.As16()
	kept := 12 + network4/8 // an IPv4 address stands in the last four octets
	if !client.Is4() {
		kept = network6 / 8
	}
	clear(raw[kept:])
	h := maphash.Bytes(l.seed, raw[:])
	place := &l.table[h%uint64(len(l.table))]
	mark := h>>40<<40 | uint64(now.Unix()&0xFFFF)<<24 // 24 bits of tag, 16 of time, 24 of count
	for {
		was := place.Load()
		next := mark | 1
		if was&^0xFFFFFF == mark {
			next = was + 1
		}
		if !place.CompareAndSwap(was, next) {
			continue
		}
		switch over := int(next&0xFFFFFF) - l.limit.PerSecond; {
		case over <= 0:
			return pass
		case over%slip == 0:
			return cutShort
		}
		return silent
	}
}

// shorten makes a reply a truncated one without records, and returns its length. Only a reply that repeats its question
// is shortened; others are a header and nothing else already.
func shorten(reply []byte) int {
	if binary.BigEndian.Uint16(reply[4:]) != 1 {
		return len(reply)
	}
	end := skipName(reply, headerSize) + 4
	reply[2] |= flagTruncated >> 8
	clear(reply[6:headerSize])
	return end
}
