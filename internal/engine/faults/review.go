package faults

import (
	"context"
	"maps"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
)

// Run reviews sites where something changed, and every site now and then, because silence is no event, until ctx ends.
func (b *Board) Run(ctx context.Context) {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if n%20 == 0 {
			for _, p := range b.record.Sites() {
				b.Review(p.ID)
			}
		}
		for _, id := range b.takeDirty() {
			if err := b.ReviewNow(ctx, id); err != nil && ctx.Err() == nil {
				b.log.Warn("faults could not be written; retrying", "error", err)
				b.Review(id)
			}
		}
	}
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
	b.diagnose(p)
	return b.write(ctx, siteID)
}

// diagnose makes the diagnosis of a site anew, and opens and closes faults as it says. They are written at the next review.
func (b *Board) diagnose(p record.Site) Diagnosis {
	b.reviewing.Lock()
	defer b.reviewing.Unlock()
	b.mu.Lock()
	delete(b.stale, p.ID) // before the evidence is gathered: what changes meanwhile makes it stale again
	b.mu.Unlock()
	now := b.now()
	ev := b.host.Evidence(p, now)
	var d Diagnosis
	var open []diagnose.Finding
	for _, f := range b.Open(p.ID) {
		open = append(open, f.Finding)
	}
	findings, paths := diagnose.All(ev, open...)
	d.Paths = paths
	opened, closed := b.replace(p.ID, d, findings, now)
	for _, f := range opened {
		b.events.Publish(events.FaultOpened, p.Code, f.Subject, f.Summary)
	}
	for _, key := range closed {
		b.events.Publish(events.FaultClosed, p.Code, key, "closed: "+key)
	}
	return d
}

// replace makes findings those that are open at a site, and returns what that opened and closed.
func (b *Board) replace(siteID int64, d Diagnosis, findings []diagnose.Finding, now time.Time) (opened []diagnose.Finding,
	closed []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.diagnoses[siteID] = d
	before := maps.Clone(b.open[siteID])
	for _, f := range findings {
		was, open := before[f.Key()]
		delete(before, f.Key())
		if !open {
			was = Fault{SiteID: siteID, Opened: now}
			if at, seen := b.seen[Of{siteID, f.Key()}]; seen && now.Sub(at) < seenFor {
				was.Opened = at
			}
			opened = append(opened, f)
		}
		was.Finding = f
		b.put(was)
	}
	for key, f := range before {
		if f.ID != 0 {
			if b.closed[siteID] == nil {
				b.closed[siteID] = map[string]time.Time{}
			}
			b.closed[siteID][key] = now
		}
		delete(b.open[siteID], key)
		closed = append(closed, key)
	}
	if len(b.open[siteID]) == 0 {
		delete(b.open, siteID)
	}
	return opened, closed
}

// unwritten returns what the database does not have yet of a site's faults.
func (b *Board) unwritten(siteID int64) (open []Fault, closed map[string]time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, f := range b.open[siteID] {
		if f.written != told(f.Finding) {
			open = append(open, f)
		}
	}
	return open, maps.Clone(b.closed[siteID])
}

// write brings the database in line with the board.
func (b *Board) write(ctx context.Context, siteID int64) error {
	open, closed := b.unwritten(siteID)
	if len(open)+len(closed) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, writeLimit)
	defer cancel()
	for key, at := range closed { // first: the same may have been opened again since
		if err := b.store.CloseFault(ctx, siteID, key, at); err != nil {
			return err
		}
		b.wroteClosed(siteID, key)
	}
	for _, f := range open {
		id, err := b.store.OpenFault(ctx, siteID, f.Finding, f.Opened)
		if err != nil {
			return err
		}
		b.wroteOpen(siteID, f.Finding.Key(), id, told(f.Finding))
	}
	return nil
}

func (b *Board) wroteOpen(siteID int64, key string, id int64, what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if f, there := b.open[siteID][key]; there {
		f.ID, f.written = id, what
		b.open[siteID][key] = f
	}
}

func (b *Board) wroteClosed(siteID int64, key string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.closed[siteID], key)
	if len(b.closed[siteID]) == 0 {
		delete(b.closed, siteID)
	}
}
