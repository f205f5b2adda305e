package moves

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/locks"
)

// patterns holds when links changed their addresses lately, and the rhythm that was learned from it.
type patterns struct {
	mu      locks.Leaf
	changes map[int64][]time.Time // by link, the oldest first; nil until the history is read
	learned map[int64]learned
}

type learned struct {
	pattern wan.Pattern
	ok      bool
	at      time.Time
	stale   bool // there were changes since
}

const (
	patternHistory = 90 * 24 * time.Hour
	patternChanges = 40 // of one link
	learnAgain     = time.Hour
	learnSoon      = time.Minute // where there were changes: a link that moves all the time is not learned anew each time
	patternSure    = 0.7         // so likely a change has to be for TTLs to be lowered ahead of it
	patternBehind  = 30 * time.Minute
)

func (p *patterns) forget(links map[int64]bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id := range links {
		delete(p.changes, id)
		delete(p.learned, id)
	}
}

// changed notes that a link has another address.
func (p *patterns) changed(linkID int64, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.changes == nil {
		p.changes = map[int64][]time.Time{}
	}
	list := append(p.changes[linkID], at)
	p.changes[linkID] = list[max(0, len(list)-patternChanges):]
	if l, known := p.learned[linkID]; known {
		l.stale = true
		p.learned[linkID] = l
	}
}

// of returns the rhythm of a link.
func (p *patterns) of(linkID int64, now time.Time, local *time.Location) (wan.Pattern, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.changes[linkID]) == 0 {
		return wan.Pattern{}, false
	}
	l, known := p.learned[linkID]
	if age := now.Sub(l.at); !known || age > learnAgain || l.stale && age > learnSoon {
		l.pattern, l.ok = wan.LearnPattern(p.changes[linkID], now, local)
		l.at, l.stale = now, false
		if p.learned == nil {
			p.learned = map[int64]learned{}
		}
		p.learned[linkID] = l
	}
	return l.pattern, l.ok
}

// runPatterns reads when links changed their addresses, once.
func (m *Moves) runPatterns(ctx context.Context) {
	for {
		if m.ReadPatterns(ctx) == nil {
			return
		}
		select {
		case <-time.After(time.Minute):
		case <-ctx.Done():
			return
		}
	}
}

// ReadPatterns reads when links changed their addresses in the last 90 days. Error: that of the database.
func (m *Moves) ReadPatterns(ctx context.Context) error {
	read, err := m.tables.ChangeTimes(ctx, m.now().Add(-patternHistory), patternChanges)
	if err != nil {
		return err
	}
	m.patterns.mu.Lock()
	defer m.patterns.mu.Unlock()
	for id, since := range m.patterns.changes { // what came meanwhile
		for _, at := range since {
			if list := read[id]; len(list) == 0 || at.After(list[len(list)-1]) {
				read[id] = append(list, at)
			}
		}
	}
	m.patterns.changes, m.patterns.learned = read, map[int64]learned{}
	return nil
}

// Changed notes that a link has another address.
func (m *Moves) Changed(linkID int64, at time.Time) { m.patterns.changed(linkID, at) }

// Pattern returns the rhythm in which a link changes its address; ok is false when none is known.
func (m *Moves) Pattern(linkID int64) (wan.Pattern, bool) {
	return m.patterns.of(linkID, m.now(), m.local)
}

// ExpectedChange returns when a link's address is expected to change: as a person planned, or else as its rhythm says. The time may have
// just passed; the zero time stands for unknown.
func (m *Moves) ExpectedChange(l site.Link) time.Time {
	if !l.ChangeAt.IsZero() || l.Mode == site.Static {
		return l.ChangeAt
	}
	p, ok := m.Pattern(l.ID)
	if !ok || p.Sure() < patternSure {
		return time.Time{}
	}
	return p.Next(m.now().Add(-patternBehind), m.local).Add(-p.Spread)
}

// NextChange returns when a link's address changes next by its rhythm.
func (m *Moves) NextChange(p wan.Pattern) time.Time { return p.Next(m.now(), m.local) }
