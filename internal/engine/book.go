package engine

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/store"
)

// book keeps the newest span of each service and what has to be written of it. A steady service costs one row that is
// updated in bulk; a span that begins is written soon.
type book struct {
	mu        sync.Mutex
	newest    map[int64]ledger.Span
	dirty     map[int64]bool
	ended     []ledger.Span
	standings map[int64]store.Standing
	soon      chan struct{}
}

// keptSpans bounds what is kept for a database that is away; the oldest is lost first.
const keptSpans = 200_000

func newBook() *book {
	return &book{newest: map[int64]ledger.Span{}, dirty: map[int64]bool{}, standings: map[int64]store.Standing{}, soon: make(chan struct{}, 1)}
}

func (b *book) add(r ledger.Result, gap time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	before := b.newest[r.ServiceID]
	span, fresh := ledger.Fold(before, r, gap)
	if fresh && b.dirty[r.ServiceID] {
		b.ended = append(b.ended, before)
		b.bound()
	}
	b.newest[r.ServiceID], b.dirty[r.ServiceID] = span, true
	if fresh {
		b.hurry()
	}
}

func (b *book) bound() {
	if over := len(b.ended) - keptSpans; over > 0 {
		b.ended = b.ended[over:]
	}
}

func (b *book) standing(s store.Standing) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.standings[s.ServiceID] = s
	b.hurry()
}

func (b *book) hurry() {
	select {
	case b.soon <- struct{}{}:
	default:
	}
}

func (b *book) forget(serviceID int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.newest, serviceID)
	delete(b.dirty, serviceID)
	delete(b.standings, serviceID)
}

func (b *book) take() (spans []ledger.Span, standings []store.Standing) {
	b.mu.Lock()
	defer b.mu.Unlock()
	spans, b.ended = b.ended, nil
	for id := range b.dirty {
		spans = append(spans, b.newest[id])
	}
	clear(b.dirty)
	for _, s := range b.standings {
		standings = append(standings, s)
	}
	clear(b.standings)
	return spans, standings
}

func (b *book) putBack(spans []ledger.Span, standings []store.Standing) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.ended = append(spans, b.ended...)
	b.bound()
	for _, s := range standings {
		if _, newer := b.standings[s.ServiceID]; !newer {
			b.standings[s.ServiceID] = s
		}
	}
}

// live gives a service's newest span as it is now, ahead of what is written.
func (b *book) live(serviceID int64) (ledger.Span, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, ok := b.newest[serviceID]
	return s, ok
}

// runLedger writes the book: soon after a span began or a state changed, otherwise every ten seconds, and at the end.
func (p *prober) runLedger(ctx context.Context) {
	tick := time.NewTicker(10 * time.Second)
	defer tick.Stop()
	for last := false; !last; {
		select {
		case <-tick.C:
		case <-p.book.soon:
		case <-ctx.Done():
			last = true
		}
		if !p.writeBook(ctx) && !last {
			select {
			case <-time.After(2 * time.Second):
			case <-ctx.Done():
			}
		}
	}
}

func (p *prober) writeBook(ctx context.Context) bool {
	spans, standings := p.book.take()
	bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	// The same span may stand in the list twice after a failed write; a statement may touch a row once.
	if err := p.e.store.PutSpans(bounded, latest(spans)); err != nil {
		p.book.putBack(spans, standings)
		p.e.log.Warn("history not written; kept for the next try", "spans", len(spans), "error", err)
		return false
	}
	if err := p.e.store.PutStandings(bounded, standings); err != nil {
		p.book.putBack(nil, standings)
		p.e.log.Warn("states not written; kept for the next try", "error", err)
		return false
	}
	return true
}

func latest(spans []ledger.Span) []ledger.Span {
	type id struct {
		service, vantage int64
		from             time.Time
	}
	at := make(map[id]int, len(spans))
	out := spans[:0:0]
	for _, s := range spans {
		k := id{s.ServiceID, s.VantageID, s.From}
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
