package history

import (
	"math"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
)

// kept is what is kept of a service: its newest span from each vantage point, and its day.
type kept struct {
	spans []running
	today
}

// at returns the place of a vantage point's span; -1 if there is none.
func (k *kept) at(vantage int64) int {
	return slices.IndexFunc(k.spans, func(r running) bool { return r.vantage == vantage })
}

// from returns the span of a vantage point, an empty one if there was none. It is valid until the next call.
func (k *kept) from(vantage int64) *running {
	i := k.at(vantage)
	if i < 0 {
		i = len(k.spans)
		k.spans = append(k.spans, running{vantage: vantage})
	}
	return &k.spans[i]
}

// running is the newest span of a service from one vantage point. It is kept packed, as there is one for each service: that is less than
// half its size.
type running struct {
	vantage          int64
	outcome          probe.Outcome
	first, until     int64 // nanoseconds since 1970
	total            int64 // microseconds, as are the next two
	fastest, slowest uint32
	count, timed     uint32
	dirty            bool // grew since it was last written
}

func (r *running) keep(s ledger.Span) {
	r.outcome, r.first, r.until = s.Outcome, s.From.UnixNano(), s.Until.UnixNano()
	r.fastest, r.slowest, r.total = short(s.Fastest), short(s.Slowest), s.Total
	r.count, r.timed = short(s.Count), short(s.Timed)
}

func (r *running) span(service int64) ledger.Span {
	return ledger.Span{ServiceID: service, VantageID: r.vantage, Outcome: r.outcome, From: time.Unix(0, r.first).UTC(),
		Until: time.Unix(0, r.until).UTC(), Count: int64(r.count), Timed: int64(r.timed), Fastest: int64(r.fastest), Total: r.total,
		Slowest: int64(r.slowest)}
}

func short(n int64) uint32 { return uint32(min(n, math.MaxUint32)) }
