// Package throttle bounds how often somebody may try: by name and network for those who sign in, by key for those who announce. It keeps
// nothing beyond memory.
package throttle

import (
	"context"
	"errors"
	"net/netip"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

const (
	// freeTries failures in a row cost nothing; each one more doubles the pause, from firstPause to longestPause.
	freeTries    = 5
	firstPause   = time.Second
	longestPause = time.Minute
	// forgetAfter is how long failures are remembered after the last one.
	forgetAfter = 15 * time.Minute
	// maxRemembered bounds memory: an attacker from very many networks still meets the pauses of the account.
	maxRemembered = 20_000
)

// TooMany reports that a name or a network has failed too often: nothing was looked at.
type TooMany struct{ Wait time.Duration }

func (e TooMany) Error() string {
	return "too many failed tries for this name or from your network; wait " + e.Wait.Round(time.Second).String()
}

// Tries counts failed tries to sign in, by name and by network. The zero Tries is ready. Its methods may be called from many
// goroutines.
type Tries struct {
	mu     sync.Mutex
	failed map[string]failures
	total  uint64
}

type failures struct {
	count int
	last  time.Time
}

// Network is the client network that tries are counted for: an IPv4 /24 or an IPv6 /64, which one customer of a provider has.
func Network(a netip.Addr) netip.Prefix {
	a = a.Unmap().WithZone("")
	bits := 64
	if a.Is4() {
		bits = 24
	}
	p, _ := a.Prefix(bits)
	return p
}

// Allowed reports as TooMany that a try by a name from an address has to wait. Error: TooMany.
func (t *Tries) Allowed(name string, from netip.Addr, now time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	var wait time.Duration
	for _, key := range keysOf(name, from) {
		if f, ok := t.failed[key]; ok {
			wait = max(wait, f.last.Add(pauseAfter(f.count)).Sub(now))
		}
	}
	if wait > 0 {
		return TooMany{wait}
	}
	return nil
}

// Failed counts a failed try.
func (t *Tries) Failed(name string, from netip.Addr, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.total++
	if t.failed == nil {
		t.failed = map[string]failures{}
	}
	if len(t.failed) >= maxRemembered {
		t.forget(now)
	}
	for _, key := range keysOf(name, from) {
		f := t.failed[key]
		if now.Sub(f.last) > forgetAfter {
			f.count = 0
		}
		t.failed[key] = failures{f.count + 1, now}
	}
}

// forget makes room for a tenth more, of what is over first: scanning all of it for each try would cost too much. The caller holds t.mu.
func (t *Tries) forget(now time.Time) {
	for key, f := range t.failed {
		if now.Sub(f.last) > forgetAfter {
			delete(t.failed, key)
		}
	}
	for key := range t.failed {
		if len(t.failed) <= maxRemembered*9/10 {
			return
		}
		delete(t.failed, key)
	}
}

// Passed forgets the failures of a name; those of the network stay, as others may be trying from there.
func (t *Tries) Passed(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.failed, "name "+name)
}

// Total is how many tries have failed since the start.
func (t *Tries) Total() uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.total
}

func keysOf(name string, from netip.Addr) []string {
	var out []string
	if name != "" { // or else whoever tries without one would keep everybody out
		out = append(out, "name "+name)
	}
	if from.IsValid() {
		out = append(out, "network "+Network(from).String())
	}
	return out
}

func pauseAfter(count int) time.Duration {
	if count < freeTries {
		return 0
	}
	pause := firstPause
	for range count - freeTries {
		if pause *= 2; pause >= longestPause {
			return longestPause
		}
	}
	return pause
}

// ErrHashing reports that too many passwords are being looked at.
var ErrHashing = errors.New("too many people sign in at this moment; try again in a few seconds")

// hashWait is how long a password waits for its turn.
const hashWait = 3 * time.Second

// Hasher bounds how many passwords are hashed at once: that takes a processor for a tenth of a second each, and announcements need
// one too.
type Hasher struct{ turns *semaphore.Weighted }

// NewHasher makes one that leaves at least half of the processors to others.
func NewHasher() Hasher { return Hasher{semaphore.NewWeighted(int64(max(1, runtime.GOMAXPROCS(0)/2)))} }

// Do runs f when it is its turn. Error: ErrHashing if that takes too long.
func (h Hasher) Do(ctx context.Context, f func()) error {
	ctx, cancel := context.WithTimeout(ctx, hashWait)
	defer cancel()
	if h.turns.Acquire(ctx, 1) != nil {
		return ErrHashing
	}
	defer h.turns.Release(1)
	f()
	return nil
}
