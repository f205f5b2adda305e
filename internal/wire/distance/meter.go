package distance

import (
	"context"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"inkpost.example/inkpost/internal/core/probe"
)

// Meter measures for many services: each address once in a while where its ports work, and a port that fails once where it does. It bounds
// how much of that is under way, and never measures one address twice at a time. It is safe for concurrent use.
type Meter struct {
	From netip.Addr // local address; the system's choice if zero
	sent atomic.Uint64

	mu     sync.Mutex
	known  map[netip.Addr]*entry
	room   int // how many addresses are known before old ones are dropped
	pace   *rate.Limiter
	slots  *semaphore.Weighted
	closed bool
	wg     sync.WaitGroup
}

// entry is what is known of one address.
type entry struct {
	calibration probe.Calibration
	works       [2]working // the TCP ports that were open last, two of them: the newest may be the one that fails now
	used        time.Time  // when anything was last asked of the address
	measuring   sync.Mutex
	busy        bool      // a calibration is under way
	tried       time.Time // when one was begun last
}

// working is a TCP port that was open at a moment.
type working struct {
	port netip.AddrPort
	at   time.Time
}

// note keeps that a port was open.
func (g *entry) note(w working) {
	if g.works[0].port != w.port {
		g.works[1] = g.works[0]
	}
	g.works[0] = w
}

// beside returns a port that was open lately and is not target; the zero AddrPort where there is none.
func (g *entry) beside(target netip.AddrPort, now time.Time) netip.AddrPort {
	for _, w := range g.works {
		if w.port.IsValid() && w.port != target && now.Sub(w.at) < trustFor {
			return w.port
		}
	}
	return netip.AddrPort{}
}

const (
	// calibrationFor is how long a calibration is believed in, and trustFor how long a port that was open is one to compare with.
	calibrationFor = 24 * time.Hour
	trustFor       = 5 * time.Minute
	// tryAgain is how long an address is left alone whose distance could not be measured.
	tryAgain = time.Hour
	// calibrations are begun a second at most, so that a start with thousands of links is no burst; series are under way at most.
	calibrations = 5
	leastRoom    = 1024
	series       = 128
)

// NewMeter returns a meter that knows nothing yet.
func NewMeter(from netip.Addr) *Meter {
	return &Meter{From: from, known: map[netip.Addr]*entry{}, pace: rate.NewLimiter(calibrations, calibrations),
		slots: semaphore.NewWeighted(series)}
}

// Sent is how many packets with a hop limit it has sent.
func (m *Meter) Sent() uint64 { return m.sent.Load() }

// entry returns what is known of an address. Addresses that were not asked for lately are dropped now and then: sites move. The caller
// holds m.mu.
func (m *Meter) entry(a netip.Addr, now time.Time) *entry {
	g := m.known[a]
	if g == nil {
		if len(m.known) >= m.room {
			for old, x := range m.known {
				if !x.busy && now.Sub(x.used) > calibrationFor {
					delete(m.known, old)
				}
			}
			m.room = max(leastRoom, 2*len(m.known))
		}
		g = &entry{}
		m.known[a] = g
	}
	g.used = now
	return g
}

// Works notes that a TCP port is open, and has its distance measured in the background where that is not known of its address.
func (m *Meter) Works(ctx context.Context, target netip.AddrPort, now time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	g := m.entry(target.Addr(), now)
	g.note(working{target, now})
	known := g.calibration.Known() && now.Sub(g.calibration.At) < calibrationFor
	if g.busy || m.closed || known || now.Sub(g.tried) < tryAgain || !m.pace.Allow() {
		return
	}
	g.busy, g.tried = true, now
	m.wg.Go(func() {
		g.measuring.Lock()
		defer g.measuring.Unlock()
		m.calibrate(ctx, g, target, now)
		m.mu.Lock()
		defer m.mu.Unlock()
		g.busy = false
	})
}

// calibrate measures a port that works, and returns what is known of its address then. The caller holds g.measuring.
func (m *Meter) calibrate(ctx context.Context, g *entry, target netip.AddrPort, now time.Time) probe.Calibration {
	answers, err := Search(ctx, Request{Transport: probe.TCP, Target: target, From: m.From, Sent: &m.sent})
	c, ok := probe.Calibrate(answers, target.Addr(), now)
	m.mu.Lock()
	defer m.mu.Unlock()
	if ok && err == nil {
		g.calibration = c
	}
	return g.calibration
}

// Do runs f in the background, unless the meter is closed.
func (m *Meter) Do(f func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.closed {
		m.wg.Go(f)
	}
}

// Close waits for what is under way, which ends with the contexts that it was begun with, and begins nothing more.
func (m *Meter) Close() {
	m.mu.Lock()
	m.closed = true
	m.mu.Unlock()
	m.wg.Wait()
}

// Examine measures a port that fails. Where a port of the same address works, that is measured too, once: a router that has just
// said enough of hop limits keeps silent, and that must not be taken for a port that ends there.
func (m *Meter) Examine(ctx context.Context, transport probe.Transport, target netip.AddrPort, now time.Time) (s probe.Series) {
	s.At = now
	if m.slots.Acquire(ctx, 1) != nil {
		s.Problem = "it was cancelled"
		return s
	}
	defer m.slots.Release(1)
	m.mu.Lock()
	g := m.entry(target.Addr(), now)
	m.mu.Unlock()
	g.measuring.Lock()
	defer g.measuring.Unlock()
	m.mu.Lock()
	s.Calibration = g.calibration
	control := g.beside(target, now)
	trusted := control.IsValid()
	calibrate := trusted && !s.Calibration.Known() && now.Sub(g.tried) >= tryAgain
	if calibrate {
		g.tried = now
	}
	m.mu.Unlock()
	if calibrate { // a few packets to a port that works spare many to the one that fails
		s.Calibration = m.calibrate(ctx, g, control, now)
	}
	r := Request{Transport: transport, Target: target, From: m.From, Sent: &m.sent,
		Limits: s.Calibration.Limits(Longest), OrdinaryFailed: s.Calibration.Known()}
	answers, err := Measure(ctx, r)
	if err != nil {
		s.Problem = err.Error()
		return s
	}
	s.Answers, s.Distance = answers, probe.Read(answers, target.Addr(), s.Calibration)
	if s.Distance.Ends() && trusted && s.Calibration.Router > 0 {
		r.Transport, r.Target, r.Limits, r.OrdinaryFailed = probe.TCP, control, []int{s.Calibration.Router}, false
		again, _ := Measure(ctx, r)
		if c := again[0]; c.Reply != probe.HopNotice || !probe.OfSite(c.ICMP.From, target.Addr()) {
			s.Distance = probe.DistanceUnknown
			s.Problem = "the site's router says nothing of hop limits at present, not for " + control.String() + " either, which works"
		}
	}
	return s
}
