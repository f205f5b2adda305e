package faults

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Run reviews sites where something changed, and every site now and then, because silence is no event, until ctx ends.
func (b *Board) Run(ctx context.Context) {
	const rounds = 20 // in which each site is reviewed once
	const many = 100  // sites that are not well have a turn each time; where more are, as in an outage, each has fewer
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		sites := b.record.SiteIDs()
		// A site that is well is reviewed every 20 s, and every minute where there are ten thousand: what begins there is an event.
		slow, rest := 1+b.unwell()/many, min(12, 4+len(sites)/1000)
		for i, id := range sites { // a part of them each time: all at once would keep a processor from everybody else
			if turn := (i + n) / rounds; i%rounds == n%rounds && (turn%rest == 0 && b.wasWell(id) || turn%slow == 0 && !b.wasWell(id)) {
				b.Review(id)
			}
		}
		if n%rounds == 0 {
			if err := b.ReadWork(ctx); err != nil && ctx.Err() == nil { // codes of sites may have changed
				b.log.Warn("planned work could not be read; retrying", "error", err)
			}
		}
		dirty := b.takeDirty()
		for _, id := range dirty {
			if err := b.ReviewNow(ctx, id); err != nil && ctx.Err() == nil {
				b.log.Warn("faults could not be written; retrying", "error", err)
				b.Review(id)
			}
			runtime.Gosched() // people's requests do not wait for all of them
		}
		if len(dirty) > 0 || n%rounds == 0 {
			if err := b.reviewAreas(ctx); err != nil && ctx.Err() == nil {
				b.log.Warn("faults of providers could not be written; retrying", "error", err)
			}
		}
	}
}

func (b *Board) wasWell(siteID int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.well[siteID]
}

// unwell counts the sites that are not well.
func (b *Board) unwell() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.diagnoses)
}

func (b *Board) takeDirty() []int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]int64, 0, len(b.dirty))
	for id := range b.dirty {
		out = append(out, id)
	}
	clear(b.dirty)
	return out
}

// ReviewNow makes the diagnosis of a site anew and writes what was opened and closed. Error: that of the database; the board keeps what
// was not written.
func (b *Board) ReviewNow(ctx context.Context, siteID int64) error {
	p, ok := b.record.Site(siteID)
	if !ok {
		return nil
	}
	b.diagnose(p, false)
	return b.write(ctx, siteID)
}

// diagnose makes the diagnosis of a site anew, and opens and closes faults as it says. They are written at the next
// review. The paths of a site that is well are made where they are shown.
func (b *Board) diagnose(p record.Site, shown bool) Diagnosis {
	b.reviewing.Lock()
	defer b.reviewing.Unlock()
	b.mu.Lock()
	delete(b.stale, p.ID) // before the evidence is gathered: what changes meanwhile makes it stale again
	b.mu.Unlock()
	now := b.now()
	ev := b.host.Evidence(p, now)
	var d Diagnosis
	if b.follows {
		_, d.Paths = diagnose.All(ev)
		return d
	}
	var open []diagnose.Finding
	for _, f := range b.Open(p.ID) {
		open = append(open, f.Finding)
	}
	findings, all := diagnose.Problems(ev, open...)
	findings, all = b.hold(ev, p.ID, open, findings, all, now)
	well := len(findings) == 0 && ev.AllWell()
	if !well || shown { // most sites are well at most times, and hardly anybody looks
		d.Paths = diagnose.PathsWith(ev, all)
	}
	began := make([]time.Time, len(findings))
	for i, f := range findings {
		began[i] = ev.FirstSign(f)
	}
	b.mu.Lock()
	if b.diagnoses[p.ID], b.well[p.ID] = d, well; well {
		delete(b.diagnoses, p.ID)
	}
	b.mu.Unlock()
	b.tell(p.Code, b.settle(p.ID, findings, began, now))
	return d
}

// happening is something that became of a fault.
type happening struct {
	kind fault.Kind
	of   diagnose.Finding
}

// tell tells whoever subscribes to events.
func (b *Board) tell(code string, list []happening) {
	for _, h := range list {
		switch h.kind {
		case fault.Opened, fault.Reopened:
			b.events.Publish(events.FaultOpened, code, h.of.Subject, h.of.Summary)
		case fault.Closed, fault.Joined:
			b.events.Publish(events.FaultClosed, code, h.of.Key(), "closed: "+h.of.Key())
		default:
			b.events.Publish(events.FaultChanged, code, h.of.Subject, h.of.Summary)
		}
	}
}

// settle makes findings those that are open at a site, and returns what that changed. began has the first sign of each finding.
func (b *Board) settle(siteID int64, findings []diagnose.Finding, began []time.Time, now time.Time) (out []happening) {
	b.mu.Lock()
	defer b.mu.Unlock()
	before := b.faults[siteID]
	known := make([]fault.Known, len(before))
	for i, f := range before {
		known[i] = fault.Known{Finding: f.Finding, Opened: f.Opened, Closed: f.Closed}
	}
	after := make([]Fault, 0, len(before))
	used := make([]bool, len(before))
	var joined []joining
	for _, s := range fault.Settle(known, findings, now) {
		var f Fault
		if s.Of >= 0 {
			f, used[s.Of] = before[s.Of], true
		} else {
			b.numbers++
			f = Fault{Fault: store.Fault{SiteID: siteID, Opened: now}, nr: b.numbers}
		}
		was := f.Finding
		if s.Found >= 0 {
			f.Finding = findings[s.Found]
		}
		words := f.Finding.Summary
		if s.Kind != fault.Stays {
			f.Turned = now
		}
		switch s.Kind {
		case fault.Opened:
			if at, seen := b.seen[Of{siteID, f.Finding.Key()}]; seen && now.Sub(at) < seenFor {
				f.Opened = at
			}
			f.Turned = f.Opened
			if f.Began = began[s.Found]; f.Began.After(f.Opened) {
				f.Began = f.Opened
			}
		case fault.Changed:
			words = fmt.Sprintf("%s; before, it was told as %s", words, was.Cause)
		case fault.Reopened:
			f.Closed, f.Under, f.Returns = time.Time{}, 0, f.Returns+1
		case fault.Closed:
			f.Closed, words = now, "proven to be over"
		case fault.Joined:
			f.Closed, words = now, "part of something larger: "+findings[s.Into].Summary
		}
		if s.Kind != fault.Stays {
			f.pending = append(f.pending[:len(f.pending):len(f.pending)], store.FaultEvent{At: now, Kind: s.Kind, Words: words})
			out = append(out, happening{s.Kind, f.Finding})
		}
		if s.Kind == fault.Joined && f.ID != 0 {
			joined = append(joined, joining{len(after), s.Into})
		}
		if f.ID != 0 || f.open() { // what never reached the database and is over is not told to anybody
			after = append(after, f)
		}
	}
	for _, j := range joined { // whoever was told of it is not told that it is over
		for _, f := range after {
			if f.open() && f.Finding.Key() == findings[j.into].Key() {
				after[j.at].Under = f.ID
			}
		}
	}
	for i, f := range before {
		if !used[i] && (now.Sub(f.Closed) <= fault.ReopenWithin || f.written != told(f.Fault)) {
			after = append(after, f)
		}
	}
	if b.faults[siteID] = after; len(after) == 0 {
		delete(b.faults, siteID)
	}
	return out
}

// joining is a fault, by its place in a list, that another explains from now on, by the place of its finding.
type joining struct{ at, into int }

// write brings the database in line with the board: what closed first, so that what goes on may take its key.
func (b *Board) write(ctx context.Context, siteID int64) error {
	b.mu.Lock()
	var list []Fault
	for _, f := range b.faults[siteID] {
		if f.written != told(f.Fault) || len(f.pending) > 0 {
			list = append(list, f)
		}
	}
	b.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, writeLimit)
	defer cancel()
	slices.SortStableFunc(list, func(x, y Fault) int {
		switch {
		case x.open() == y.open():
			return 0
		case y.open():
			return -1
		}
		return 1
	})
	for _, f := range list {
		id, err := b.store.SaveFault(ctx, f.Fault, f.pending)
		if err != nil {
			return err
		}
		b.wrote(f, id)
	}
	return nil
}

// wrote notes that the database has a fault as it was.
func (b *Board) wrote(w Fault, id int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := b.faults[w.SiteID]
	for i, f := range list {
		if f.nr == w.nr {
			list[i].ID, list[i].written = id, told(w.Fault)
			list[i].pending = slices.Clone(f.pending[min(len(w.pending), len(f.pending)):])
		}
	}
}
