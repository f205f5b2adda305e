package engine

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// patterns holds when links changed their addresses lately, and the rhythm that was learned from it.
type patterns struct {
	mu      sync.Mutex
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

// runPatterns reads when links changed their addresses, once.
func (e *Engine) runPatterns(ctx context.Context) {
	for {
		if e.readPatterns(ctx) == nil {
			return
		}
		select {
		case <-time.After(time.Minute):
		case <-ctx.Done():
			return
		}
	}
}

func (e *Engine) readPatterns(ctx context.Context) error {
	read, err := e.store.ChangeTimes(ctx, e.now().Add(-patternHistory), patternChanges)
	if err != nil {
		return err
	}
	e.patterns.mu.Lock()
	defer e.patterns.mu.Unlock()
	for id, since := range e.patterns.changes { // what came meanwhile
		for _, at := range since {
			if list := read[id]; len(list) == 0 || at.After(list[len(list)-1]) {
				read[id] = append(list, at)
			}
		}
	}
	e.patterns.changes, e.patterns.learned = read, map[int64]learned{}
	return nil
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

// of gives the rhythm of a link.
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

// expectedChange gives when a link's address is expected to change: as planned by a person, or, where nobody did, as its rhythm says.
// The time may have just passed; the zero time stands for none.
func (e *Engine) expectedChange(l site.Link) time.Time {
	if !l.ChangeAt.IsZero() || l.Mode == site.Static {
		return l.ChangeAt
	}
	now := e.now()
	p, ok := e.patterns.of(l.ID, now, e.config.Local)
	if !ok || p.Sure() < patternSure {
		return time.Time{}
	}
	return p.Next(now.Add(-patternBehind), e.config.Local).Add(-p.Spread)
}

// patternView tells of a link's rhythm; nil where none is known.
func (e *Engine) patternView(linkID int64) *contract.ChangePattern {
	now := e.now()
	p, ok := e.patterns.of(linkID, now, e.config.Local)
	if !ok {
		return nil
	}
	return &contract.ChangePattern{Words: p.String(), Next: p.Next(now, e.config.Local), Sure: p.Sure(), SpreadSeconds: p.Spread.Seconds()}
}
