package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/wan"
)

// A round asks every source and reports to the server. The agent is a guest at the site: rounds have a minimum spacing, whatever triggers
// them, so that nothing they cause can make the agent ask without end.
const (
	roundFloor  = 10 * time.Second // between rounds
	urgentFloor = time.Second      // where somebody names another WAN address
	heldFirst   = time.Second      // before the server is told again what it did not follow; doubled each time
)

// reason is why a link is checked, and which source noticed, if any. The zero reason is the regular check.
type reason struct {
	words  string
	by     wan.Source
	urgent bool // another WAN address was named, or a person is waiting
	known  bool // the news is here already: it is reported, and no source is asked
	cheap  bool // the regular check, but now
}

// floor is the least time between a round and the next one for a reason.
func (w reason) floor() time.Duration {
	switch {
	case w.known, w.cheap: // nobody is asked, or STUN only
		return 0
	case w.urgent:
		return urgentFloor
	}
	return roundFloor
}

// and merges two reasons.
func (w reason) and(other reason) reason {
	switch {
	case w == reason{}:
		return other
	case other == reason{}:
		return w
	}
	first, second := w, other
	if other.urgent && !w.urgent {
		first, second = other, w
	}
	return reason{first.words, cmp.Or(first.by, second.by), first.urgent, first.known && second.known, first.cheap && second.cheap}
}

// news collects reasons until the loop takes them, so that none is lost while the loop is busy.
type news struct {
	mu   sync.Mutex
	all  reason
	wake chan struct{}
}

func (n *news) add(why reason) {
	n.mu.Lock()
	n.all = n.all.and(why)
	n.mu.Unlock()
	select {
	case n.wake <- struct{}{}:
	default:
	}
}

func (n *news) take() reason {
	n.mu.Lock()
	defer n.mu.Unlock()
	why := n.all
	n.all = reason{}
	return why
}

// look triggers a check of the link soon.
func (r *runner) look(why reason) { r.news.add(why) }

// loop checks the link until ctx ends: at intervals, and when there is news.
func (r *runner) loop(ctx context.Context) error {
	why := reason{words: "it has just started"}
	for failures := 0; ; {
		why = r.allowed(why)
		err := r.check(ctx, why)
		if err != nil && ctx.Err() == nil && failures == 0 && !final(err) {
			// The first failure is often a connection that the router's old address took with it: a fresh one works.
			r.afresh()
			err = r.check(ctx, why)
		}
		wait := r.every
		switch {
		case ctx.Err() != nil:
			return nil
		case err == nil:
			failures = 0
			r.fleet.set(r, false)
			if r.held > 0 {
				wait = min(wait, pace.Backoff(r.held-1, heldFirst, r.every, 0))
			}
		case errors.Is(err, errAgain):
			return err
		case client.IsStatus(err, http.StatusUnauthorized), client.IsStatus(err, http.StatusGone):
			r.tellStatus(func(s *Status) { s.Trouble = ErrRevoked.Error() })
			return fmt.Errorf("%w (%v)", ErrRevoked, err)
		default:
			var away *client.Unreachable
			r.fleet.set(r, errors.As(err, &away))
			wait = pace.Backoff(failures, retryBase, min(r.every, maxRetry), rand.Float64())
			failures++
			r.log.Warn("announcement failed", "error", err, "retry_in", wait.Round(time.Millisecond))
			r.tellStatus(func(s *Status) { s.Trouble = err.Error() })
		}
		if why = r.nextReason(ctx, wait); ctx.Err() != nil {
			return nil
		}
	}
}

// allowed returns what may be done now for a reason. What comes too soon after the last round waits.
func (r *runner) allowed(why reason) reason {
	switch {
	case why.cheap:
		return reason{}
	case why.known:
		return why
	}
	why, r.later = why.and(r.later), reason{}
	if why != (reason{}) && time.Since(r.round) < why.floor() {
		why, r.later = reason{}, why
	}
	return why
}

// nextReason waits for the next regular check, for news, or for the time at which news that waits is allowed.
func (r *runner) nextReason(ctx context.Context, wait time.Duration) reason {
	if r.later != (reason{}) {
		wait = min(wait, max(0, r.later.floor()-time.Since(r.round)))
	}
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-t.C:
	case <-r.news.wake:
	case <-ctx.Done():
	}
	why := r.news.take()
	if why != (reason{}) {
		r.log.Debug("looking at once", "because", why.words)
	}
	return why
}

// check asks STUN, which is cheap and does not bother the router, and makes a full report if the answer differs, a report is due, or there
// is a reason.
func (r *runner) check(ctx context.Context, why reason) error {
	servers := r.stunServers()
	if len(servers) > 0 && r.server.STUN > 0 && !why.known {
		one := r.stun(servers[:1]).Learn(ctx)[0]
		told := one.Problem == "" && one.Addresses == r.beat
		if told && why == (reason{}) && r.held == 0 && !r.missing() && time.Since(r.word) < maxAnnouncePause {
			return nil
		}
		if one.Problem == "" && one.Addresses.Known() {
			r.note(one.Addresses, cmp.Or(why.by, wan.SourceSTUN)) // who noticed first
		}
		if !told {
			why = why.and(reason{words: "STUN sees another address", by: wan.SourceSTUN, urgent: true})
		}
	}
	if why.urgent || r.held > 0 {
		r.afresh()
	}
	return r.tell(ctx, why)
}

// missing reports whether the server has an address of the link of a family that is seen no longer: it takes that back when it was told
// several times.
func (r *runner) missing() bool {
	return r.beat.Known() && (r.has.IPv4.IsValid() && !r.beat.IPv4.IsValid() || r.has.IPv6.IsValid() && !r.beat.IPv6.IsValid())
}

// severed cancels what waits on a connection that is dead.
type severed struct {
	mu     sync.Mutex
	cancel context.CancelFunc
}

// wait returns a context that ends when connections are made afresh.
func (s *severed) wait(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cancel = cancel
	return ctx, cancel
}

func (s *severed) sever() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cancel != nil {
		s.cancel()
	}
}

// afresh drops open connections: the router may still translate them to an address that is gone, and the server would see that one.
func (r *runner) afresh() {
	r.to.hangUp()
	r.lost.sever()
}
