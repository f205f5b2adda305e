package verify

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/engine/locks"
)

// How many sites are verified at once: at our own server, which answers at once, and at servers that may be away; and how many questions
// may wait for one of the latter.
const (
	localWorkers  = 8
	remoteWorkers = 32
	maxPerServer  = 4
)

// minPause is the least time between two inquiries about one site, and maxPause the longest; in between it is chosen so that inquiries take
// a 32nd of the time. The first after a move waits for nothing.
const (
	minPause = 20 * time.Millisecond
	maxPause = 500 * time.Millisecond
)

// inquiries are sites with a verification running or pending. A site that comes up again meanwhile is verified once more, however
// often it came up.
type inquiries struct {
	mu      locks.Leaf
	open    map[int64]inquiry
	queue   []int64
	resting pace.Queue[rest] // sites that were verified a moment ago
	timer   *time.Timer      // one for all of them: thousands of timers that end together are as many goroutines
	more    chan struct{}
}

// inquiry is what is still to be asked of a site: nothing, what is not known to be right, or every name.
type inquiry struct{ due, every bool }

// rest is the pause of a site.
type rest struct {
	siteID int64
	until  time.Time
}

// DueAt implements pace.Item.
func (r rest) DueAt() time.Time { return r.until }

// PutAt implements pace.Item.
func (r rest) PutAt(int) {}

func newInquiries() *inquiries {
	return &inquiries{open: map[int64]inquiry{}, more: make(chan struct{}, 1)}
}

// ask queues the verification of a site.
func (q *inquiries) ask(siteID int64, every bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	now, there := q.open[siteID]
	q.open[siteID] = inquiry{due: true, every: every || now.every}
	if !there {
		q.push(siteID)
	}
}

// push queues a site. The caller holds q.mu.
func (q *inquiries) push(siteID int64) {
	q.queue = append(q.queue, siteID)
	signal(q.more)
}

// next takes the next site to verify; ok is false if there is none.
func (q *inquiries) next() (siteID int64, every, ok bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.queue) == 0 {
		return 0, false, false
	}
	siteID = q.queue[0]
	q.queue = q.queue[1:]
	every = q.open[siteID].every
	q.open[siteID] = inquiry{}
	if len(q.queue) > 0 {
		signal(q.more)
	}
	return siteID, every, true
}

// done notes that a site was verified. If it is due again by then, it comes back after a pause.
func (q *inquiries) done(siteID int64, pause time.Duration) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.resting.Add(rest{siteID, time.Now().Add(pause)})
	q.wait()
}

// wait sets the timer to the end of the next pause. The caller holds q.mu.
func (q *inquiries) wait() {
	pause := time.Until(q.resting.Peek().until)
	if q.timer == nil {
		q.timer = time.AfterFunc(pause, q.rested)
		return
	}
	q.timer.Reset(pause)
}

// rested ends the pauses that are over.
func (q *inquiries) rested() {
	q.mu.Lock()
	defer q.mu.Unlock()
	for now := time.Now(); q.resting.Len() > 0; {
		if q.resting.Peek().until.After(now) {
			q.wait()
			return
		}
		id := q.resting.Pop().siteID
		if q.open[id].due {
			q.push(id)
		} else {
			delete(q.open, id)
		}
	}
}

// work verifies sites until ctx ends, with n workers.
func (q *inquiries) work(ctx context.Context, wg *sync.WaitGroup, workers int, ask func(siteID int64, every bool)) {
	for range workers {
		wg.Go(func() {
			for {
				select {
				case <-q.more:
				case <-ctx.Done():
					return
				}
				for ctx.Err() == nil {
					id, every, ok := q.next()
					if !ok {
						break
					}
					began := time.Now()
					ask(id, every)
					q.done(id, min(max(minPause, 31*time.Since(began)), maxPause))
				}
			}
		})
	}
}

// asking counts how many questions wait for each server of others. The zero asking is ready.
type asking struct {
	mu locks.Leaf
	at map[string]int
}

// enter reports whether a server may be asked now.
func (a *asking) enter(server string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.at == nil {
		a.at = map[string]int{}
	}
	if a.at[server] >= maxPerServer {
		return false
	}
	a.at[server]++
	return true
}

func (a *asking) leave(server string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.at[server]--; a.at[server] <= 0 {
		delete(a.at, server)
	}
}
