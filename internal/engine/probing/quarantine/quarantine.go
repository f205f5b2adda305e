// Package quarantine knows the links at whose address somebody else seems to answer. Nothing is probed there until the link is proven
// again: we may probe only addresses known to be the customer's.
//
// Any lock may be held when it is called: it calls nobody.
package quarantine

import (
	"time"

	"inkpost.example/inkpost/internal/engine/locks"
)

// List has the links that are left alone. The zero value has none. It is safe for concurrent use.
type List struct {
	mu    locks.Leaf
	links map[int64]one
}

type one struct {
	since  time.Time
	reason string
}

// Reason is why a link must not be probed, "" if it may be. heard is when the link was last proven: by an agent that was heard, or an
// announcement.
func (l *List) Reason(linkID int64, heard time.Time) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	found, ok := l.links[linkID]
	if !ok {
		return ""
	}
	if heard.After(found.since) {
		delete(l.links, linkID)
		return ""
	}
	return found.reason
}

// Add has a link be left alone, and reports whether it was not before.
func (l *List) Add(linkID int64, now time.Time, reason string) (first bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, already := l.links[linkID]
	if l.links == nil {
		l.links = map[int64]one{}
	}
	l.links[linkID] = one{now, reason}
	return !already
}

// Lift has a link be probed again.
func (l *List) Lift(linkID int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.links, linkID)
}
