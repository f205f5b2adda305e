package speak

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
)

// Service is what a round probes: every port of a service, on each of its transports.
type Service struct {
	Request // Kind and Transport are the service's; Target is its first port
	Last    uint16
	// Also is the first port of the same ports at another address of the device; zero if there is none.
	Also   netip.AddrPort
	Pinned string
	// Expected is what the ports should be.
	Expected probe.Expected
	// Renewed reports whether a key that a certificate for the service's name vouches for may take the place of the pinned one; nil for
	// never.
	Renewed func(fingerprint string) bool
}

// Try is one attempt of a round.
type Try struct {
	Target    netip.AddrPort
	Transport probe.Transport
	Kind      probe.Kind
	Outcome   probe.Outcome
	Reply
}

// Round is the result of probing all of a service's ports.
type Round struct {
	Outcome  probe.Outcome
	Deciding Try // the attempt that decided: the first that is not as wanted, or else the first that says anything
	Tries    []Try
	Latency  time.Duration // zero if nothing came back
	Inside   bool          // we are at the address ourselves: what we see does not count
}

// Insider is the message for a view from inside.
const Insider = "this vantage point has the site's own address: it is inside, where routers do not loop traffic back, and its view " +
	"does not count"

// All probes every port of a service, a few at a time.
func All(ctx context.Context, s Service) Round {
	var tries []Try
	for _, first := range []netip.AddrPort{s.Target, s.Also} {
		for n := 0; first.IsValid() && n <= int(s.Last)-int(s.Target.Port()); n++ {
			for _, t := range s.Transport.Each() {
				tries = append(tries, Try{Target: netip.AddrPortFrom(first.Addr(), first.Port()+uint16(n)), Transport: t,
					Kind: s.Kind.On(t)})
			}
		}
	}
	if len(tries) == 1 {
		tries[0] = s.try(ctx, tries[0])
	} else {
		s.tryEach(ctx, tries)
	}
	return s.together(tries)
}

// tryEach makes several attempts, a few at a time.
func (s Service) tryEach(ctx context.Context, tries []Try) {
	var wg sync.WaitGroup
	slots := make(chan struct{}, pace.MaxAtTarget)
	for i := range tries {
		slots <- struct{}{}
		wg.Go(func() { tries[i] = s.try(ctx, tries[i]); <-slots })
	}
	wg.Wait()
}

// try makes one attempt.
func (s Service) try(ctx context.Context, t Try) Try {
	r := s.Request
	r.Target, r.Transport, r.Kind = t.Target, t.Transport, t.Kind
	t.Reply = To(ctx, r)
	pinned := s.Pinned
	if t.Target != s.Target && t.Target != s.Also || t.Kind != s.Kind {
		pinned = "" // it was taken from the first port, in the service's own protocol
	}
	t.Outcome = probe.Judge(t.Result, pinned)
	if t.Outcome == probe.Stranger && t.Certificate.Vouched && s.Renewed != nil && s.Renewed(t.Fingerprint) {
		t.Outcome = probe.Answered
	}
	return t
}

func (s Service) together(tries []Try) Round {
	r := Round{Tries: tries, Deciding: tries[0]}
	best := -1
	for i, t := range tries {
		if t.From.IsValid() && t.From.Addr() == t.Target.Addr() {
			r.Inside = true
		}
		rank := 0
		switch (probe.Rule{Expected: s.Expected, Mute: probe.Mute(t.Kind, s.Options)}).Meaning(t.Outcome) {
		case probe.AsWanted:
			rank = 1
		case probe.NotWanted:
			rank = 2
		}
		if rank > best {
			best, r.Deciding = rank, tries[i]
		}
	}
	r.Outcome = r.Deciding.Outcome
	if r.Outcome.Open() || r.Outcome == probe.Refused {
		r.Latency = r.Deciding.Took
	}
	if r.Inside {
		r.Outcome = probe.Skipped
	}
	return r
}
