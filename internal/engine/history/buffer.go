package history

import (
	"maps"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/store"
)

// seenFrom is a service as one vantage point sees it.
type seenFrom struct{ service, vantage int64 }

// buffer keeps the newest span of each service and vantage point and the current day of each service, and what has to be
// written of them. A steady service costs a row that is updated in bulk; a span that begins is written soon.
type buffer struct {
	mu        locks.Leaf
	services  map[int64]*kept
	begun     map[seenFrom]bool // began since it was last written
	ended     []ledger.Span
	endedDays []store.ServiceDay
	states    map[int64]store.ServiceState
	soon      chan struct{}
}

// maxKept bounds what is kept for a database that is away; the oldest is lost first.
const maxKept = 200_000

func newBuffer() *buffer {
	return &buffer{services: map[int64]*kept{}, begun: map[seenFrom]bool{}, states: map[int64]store.ServiceState{},
		soon: make(chan struct{}, 1)}
}

// of returns what is kept of a service, from now on if there was nothing. The caller holds b.mu.
func (b *buffer) of(serviceID int64) *kept {
	k := b.services[serviceID]
	if k == nil {
		k = &kept{}
		b.services[serviceID] = k
	}
	return k
}

// resume takes up the days that an earlier run began, or another server: that of the database, unless more is known of it here. Since then
// nobody has looked.
func (b *buffer) resume(days map[int64]ledger.Day) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, k := range b.services {
		k.until, k.dirty = 0, k.begun()
	}
	for id, day := range days {
		if k := b.of(id); !k.begun() || !fuller(k.day(), day) {
			k.today = today{}
			k.keep(day)
		}
	}
}

// fuller reports whether one day has more of a service than another.
func fuller(a, b ledger.Day) bool {
	if !a.Start.Equal(b.Start) {
		return a.Start.After(b.Start)
	}
	known := func(d ledger.Day) int64 { s := d.Sum(d.Start, d.Start.Add(24*time.Hour)); return s.Known() }
	return known(a) > known(b)
}

// begin takes up a span that the database has.
func (b *buffer) begin(s ledger.Span) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.of(s.ServiceID).from(s.VantageID).keep(s)
}

// add enters a result, and the time since the last one in the state that the service was in.
func (b *buffer) add(r ledger.Result, gap time.Duration, expected probe.Expected, state probe.State) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.fold(r, gap)
	b.account(r, gap, expected, state)
}

// late enters what a vantage point saw while the server was away: it belongs to the history, not to the present state.
func (b *buffer) late(r ledger.Result, gap time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.fold(r, gap)
}

// fold enters a result into the spans. The caller holds b.mu.
func (b *buffer) fold(r ledger.Result, gap time.Duration) {
	at := seenFrom{r.ServiceID, r.VantageID}
	open := b.of(r.ServiceID).from(r.VantageID)
	before := open.span(r.ServiceID)
	span, fresh := ledger.Fold(before, r, gap)
	if fresh && (open.dirty || b.begun[at]) {
		b.ended = append(b.ended, before)
		b.bound()
	}
	open.keep(span)
	if open.dirty = !fresh; fresh {
		b.begun[at] = true
		b.wake()
	}
}

// account adds the time since the service's last result to its hours. The caller holds b.mu.
func (b *buffer) account(r ledger.Result, gap time.Duration, expected probe.Expected, state probe.State) {
	d, day := &b.of(r.ServiceID).today, ledger.Day{Start: ledger.DayOf(r.At)}
	if d.begun() {
		day = d.day()
	}
	from := time.Unix(0, d.until)
	if d.until == 0 || r.At.Sub(from) > gap || !r.At.After(from) {
		from = r.At // in between nobody looked
	}
	d.until = max(d.until, r.At.UnixNano())
	for from.Before(r.At) || ledger.DayOf(r.At).After(day.Start) {
		from = day.Account(expected, state, from, r.At)
		d.dirty = true
		if !ledger.DayOf(r.At).After(day.Start) {
			break
		}
		b.endedDays = append(b.endedDays, store.ServiceDay{ServiceID: r.ServiceID, Day: day})
		day = ledger.Day{Start: ledger.DayOf(r.At)}
	}
	if r.Latency > 0 {
		day.Latency.Add(r.Latency)
		d.dirty = true
	}
	d.keep(day)
}

func (b *buffer) bound() {
	if over := len(b.ended) - maxKept; over > 0 {
		b.ended = b.ended[over:]
	}
}

func (b *buffer) state(s store.ServiceState) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.states[s.ServiceID] = s
	b.wake()
}

func (b *buffer) wake() {
	select {
	case b.soon <- struct{}{}:
	default:
	}
}

func (b *buffer) forget(serviceID int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.services, serviceID)
	delete(b.states, serviceID)
	maps.DeleteFunc(b.begun, func(at seenFrom, _ bool) bool { return at.service == serviceID })
}

// forgetVantage drops what a vantage point that is removed saw last.
func (b *buffer) forgetVantage(id int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, k := range b.services {
		k.spans = slices.DeleteFunc(k.spans, func(r running) bool { return r.vantage == id })
	}
	maps.DeleteFunc(b.begun, func(at seenFrom, _ bool) bool { return at.vantage == id })
}

// batch is what is written in one go.
type batch struct {
	spans  []ledger.Span
	days   []store.ServiceDay // that are over
	today  []store.ServiceDay
	states []store.ServiceState
}

func (p batch) empty() bool { return len(p.spans)+len(p.days)+len(p.today)+len(p.states) == 0 }

// How much of what only grew is written at a time: with many services each has its turn every few minutes.
const (
	maxGrown  = 5000
	maxDays   = 1500
	daysEvery = 10 * time.Minute
)

// take returns what has to be written: what began or ended, and with grown some of what only grew; with all, everything.
func (b *buffer) take(now time.Time, grown, all bool) batch {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := batch{spans: b.ended, days: b.endedDays}
	b.ended, b.endedDays = nil, nil
	for at := range b.begun {
		open := b.of(at.service).from(at.vantage)
		p.spans = append(p.spans, open.span(at.service))
		open.dirty = false
	}
	b.begun = map[seenFrom]bool{} // not cleared: it was as large as everything at the start
	if grown || all {
		b.takeGrown(&p, now, all)
	}
	for _, s := range b.states {
		p.states = append(p.states, s)
	}
	clear(b.states)
	return p
}

// takeGrown adds what only grew: some of it, or with all, everything. The caller holds b.mu.
func (b *buffer) takeGrown(p *batch, now time.Time, all bool) {
	spans, days := 0, 0
	for id, k := range b.services {
		for i := range k.spans {
			if open := &k.spans[i]; open.dirty && (all || spans < maxGrown) {
				p.spans = append(p.spans, open.span(id))
				open.dirty = false
				spans++
			}
		}
		if k.dirty && (all || days < maxDays && now.UnixNano()-k.written >= int64(daysEvery)) {
			p.today = append(p.today, store.ServiceDay{ServiceID: id, Day: k.day()})
			k.dirty, k.written = false, now.UnixNano()
			days++
		}
	}
}

func (b *buffer) putBack(p batch) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.ended = append(p.spans, b.ended...)
	b.bound()
	if len(b.endedDays) < maxKept {
		b.endedDays = append(p.days, b.endedDays...)
	}
	for _, t := range p.today {
		if k := b.services[t.ServiceID]; k != nil {
			k.dirty, k.written = true, 0
		}
	}
	for _, s := range p.states {
		if _, newer := b.states[s.ServiceID]; !newer {
			b.states[s.ServiceID] = s
		}
	}
}

// live returns a service's newest spans as they are now, ahead of what is written.
func (b *buffer) live(serviceID int64, vantages []int64) (out []ledger.Span) {
	b.mu.Lock()
	defer b.mu.Unlock()
	k := b.services[serviceID]
	if k == nil {
		return nil
	}
	for _, v := range vantages {
		if i := k.at(v); i >= 0 {
			out = append(out, k.spans[i].span(serviceID))
		}
	}
	return out
}

// today returns a service's current day, ahead of what is written.
func (b *buffer) today(serviceID int64) (ledger.Day, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if k := b.services[serviceID]; k != nil && k.begun() {
		return k.day(), true
	}
	return ledger.Day{}, false
}

func latest(spans []ledger.Span) []ledger.Span {
	type id struct {
		at   seenFrom
		from time.Time
	}
	at := make(map[id]int, len(spans))
	out := spans[:0:0]
	for _, s := range spans {
		k := id{seenFrom{s.ServiceID, s.VantageID}, s.From}
		if i, there := at[k]; there {
			if s.Until.After(out[i].Until) {
				out[i] = s
			}
			continue
		}
		at[k] = len(out)
		out = append(out, s)
	}
	return out
}

// latestDays keeps the last of each service and day, which is the fullest.
func latestDays(days []store.ServiceDay) []store.ServiceDay {
	type id struct {
		service int64
		start   time.Time
	}
	at := make(map[id]int, len(days))
	out := days[:0:0]
	for _, d := range days {
		k := id{d.ServiceID, d.Start}
		if i, there := at[k]; there {
			out[i] = d
			continue
		}
		at[k] = len(out)
		out = append(out, d)
	}
	return out
}
