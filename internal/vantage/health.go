package vantage

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
)

// health is what a vantage point knows of itself.
type health struct {
	checking sync.Mutex // one check at a time; others wait for its result
	mu       sync.Mutex
	began    time.Time // when the last check began
	ailing   string
	targets  map[string]seenAt // by address: whether anything answers there
}

type seenAt struct {
	good   bool      // something answered in the last round there
	at     time.Time // when that was
	goodAt time.Time // when something answered last
}

// maxClock is how far our clock may be from the server's.
const maxClock = 3 * time.Second

// lately is how recent a result has to be to say something of our own way out.
const lately = 45 * time.Second

// before is how long ago something may have answered at an address whose silence is news.
const before = 5 * time.Minute

// saw notes the meaning of a round, to be judged with the others.
func (h *health) saw(a contract.Assignment, m probe.Meaning, now time.Time) {
	if m == probe.Nothing || a.Expected == probe.ExpectClosed {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.targets == nil {
		h.targets = map[string]seenAt{}
	}
	s := h.targets[a.Target]
	s.good = m == probe.AsWanted || now.Sub(s.goodAt) < time.Second // another service of the same address
	if s.at = now; m == probe.AsWanted {
		s.goodAt = now
	}
	h.targets[a.Target] = s
}

func (h *health) horizon(now time.Time) (out probe.LinkView[string]) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for target, s := range h.targets {
		switch {
		case now.Sub(s.at) > 10*time.Minute:
			delete(h.targets, target)
		case now.Sub(s.at) <= lately && now.Sub(s.goodAt) <= before: // what has been dark for long is no news
			out = out.With(target, s.good)
		}
	}
	return out
}

// check returns what is wrong with this vantage point itself, "" if nothing is. A result younger than age is reused.
func (r *runner) check(ctx context.Context, age time.Duration) string {
	h := &r.health
	asked := time.Now()
	h.checking.Lock()
	defer h.checking.Unlock()
	h.mu.Lock()
	began, ailing := h.began, h.ailing
	h.mu.Unlock()
	if asked.Sub(began) < age && !began.IsZero() {
		return ailing
	}
	began = time.Now()
	ailing = r.examine(ctx)
	if ctx.Err() != nil {
		return ""
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if ailing != h.ailing {
		if ailing != "" {
			r.log.Warn("not fit to look at sites", "reason", ailing)
		} else {
			r.log.Info("fit to look at sites again")
		}
	}
	h.began, h.ailing = began, ailing
	return ailing
}

// examine looks at the way out, at name resolution and at the clock.
func (r *runner) examine(ctx context.Context) string {
	r.mu.Lock()
	offset := r.offset
	r.mu.Unlock()
	if offset.Abs() > maxClock {
		return fmt.Sprintf("the clock differs from the server's by %s", offset.Abs().Round(time.Millisecond))
	}
	server, err := url.Parse(r.state.Server)
	if err != nil {
		return ""
	}
	bounded, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if _, err := netip.ParseAddr(server.Hostname()); err != nil {
		if _, err := net.DefaultResolver.LookupHost(bounded, server.Hostname()); err != nil {
			return fmt.Sprintf("the name %s cannot be resolved", server.Hostname())
		}
	}
	references := r.o.References
	if len(references) == 0 {
		port := server.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[server.Scheme]
		}
		references = []string{net.JoinHostPort(server.Hostname(), port)}
	}
	dialer := net.Dialer{}
	if r.o.From.IsValid() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(r.o.From, 0))
	}
	answers := make(chan error, len(references))
	for _, at := range references {
		go func() {
			c, err := dialer.DialContext(bounded, "tcp", at)
			if err == nil {
				_ = c.Close()
			}
			answers <- err
		}()
	}
	for range references {
		if err = <-answers; err == nil {
			break
		}
	}
	if err != nil && len(r.o.References) > 0 {
		return "none of the references answers: the way out is broken"
	}
	// The server may be away while the way out works; that everything else is dark at the same time decides.
	if h := r.health.horizon(time.Now()); h.Blind() {
		return fmt.Sprintf("nothing answers at any of %d addresses at once: the way out is the likelier cause", len(h))
	}
	return ""
}
