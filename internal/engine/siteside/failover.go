package siteside

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
)

// failover knows which links are down, of sites that have several.
type failover struct {
	mu      locks.Leaf
	down    map[int64]time.Time // when an agent of the site said that nothing goes through the link
	working map[int64]time.Time // since when a link that failed has been working
	tried   map[int64]time.Time // when the silence began for which a link's services were tried
}

func newFailover() failover {
	return failover{down: map[int64]time.Time{}, working: map[int64]time.Time{}, tried: map[int64]time.Time{}}
}

func (f *failover) forget(gone record.Gone) {
	f.mu.Lock()
	defer f.mu.Unlock()
	drop(f.down, gone.Links)
	drop(f.working, gone.Links)
	drop(f.tried, gone.Links)
}

// NoteDown notes that the agent of one link cannot get through other links of the same site.
func (s *Side) NoteDown(linkID int64, labels []string) {
	p, _, ok := s.record.SiteOfLink(linkID)
	if !ok || len(labels) == 0 {
		return
	}
	now := s.Now()
	s.failover.mu.Lock()
	for _, label := range labels {
		if l, err := p.LinkNamed(label); err == nil && l.ID != linkID {
			s.failover.down[l.ID] = now
		}
	}
	s.failover.mu.Unlock()
	if err := s.host.FollowLinks(context.Background(), p.ID); err != nil {
		s.Log.Warn("hostnames could not follow another link; retrying", "site", p.Code, "error", err)
	}
}

// CameBy returns the other link of the same site by which something came that was sent for a link. Behind a provider that translates,
// two links may have one address: there it says nothing.
func (s *Side) CameBy(p record.Site, l site.Link, from netip.Addr) (site.Link, bool) {
	other, is := p.OtherLinkAt(from, l.ID)
	for _, id := range []int64{l.ID, other.ID} {
		if r, _ := s.Report(id); r.NAT.Verdict == wan.NATCarrier {
			return site.Link{}, false
		}
	}
	return other, is
}

// ByOtherLink notes that what was sent for a link came by another one.
func ByOtherLink(l, other site.Link) string {
	return fmt.Sprintf("what was sent for link %s came by link %s (%s): link %s is down, and the router uses the other one", l.Label,
		other.Label, other.Addresses(), l.Label)
}

// runFailover checks the links of sites that have several.
func (s *Side) runFailover(ctx context.Context) {
	tick := rounds.Every(min(time.Second, s.CheckEvery/4+50*time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			tick.Begun()
		case <-ctx.Done():
			return
		}
		for p := range s.record.Pick(func(_ int, p record.Site) bool { return len(p.Links) > 1 }) {
			if err := s.host.FollowLinks(ctx, p.ID); err != nil && ctx.Err() == nil {
				s.Log.Warn("hostnames could not follow another link; retrying", "site", p.Code, "error", err)
			}
		}
	}
}

// Failing lists the links of a site that fail now. provenOn returns when a service was last reached through a link.
func (s *Side) Failing(p record.Site, now time.Time, provenOn func(linkID int64) time.Time) map[int64]bool {
	failing := make(map[int64]bool, len(p.Links))
	signs := make(map[int64]site.LinkSigns, len(p.Links))
	for l := range p.EachLink() {
		signs[l.ID] = site.LinkSigns{Heard: s.LastHeard(l), Every: s.CheckEvery, Agent: l.Agent, Proven: provenOn(l.ID)}
	}
	since := s.Since()
	s.failover.mu.Lock()
	defer s.failover.mu.Unlock()
	for l := range p.EachLink() {
		of := signs[l.ID]
		of.Down = s.failover.down[l.ID]
		switch fails := of.Fails(now, since); {
		case fails:
			failing[l.ID] = true
			delete(s.failover.working, l.ID)
		case l.Failing:
			if s.failover.working[l.ID].IsZero() {
				s.failover.working[l.ID] = now
			}
			failing[l.ID] = now.Sub(s.failover.working[l.ID]) < s.HoldDown
		}
	}
	return failing
}

// SilentLinks lists the links of a site whose agents have just fallen silent, each silence once: their services have to be tried, so that
// what can be reached still counts.
func (s *Side) SilentLinks(p record.Site, now time.Time) (out []int64) {
	for l := range p.EachLink() {
		heard := s.LastHeard(l)
		if since := s.Since(); since.After(heard) {
			heard = since
		}
		if !l.Agent || now.Sub(heard) <= s.CheckEvery {
			continue
		}
		s.failover.mu.Lock()
		if !s.failover.tried[l.ID].Equal(heard) {
			s.failover.tried[l.ID] = heard
			out = append(out, l.ID)
		}
		s.failover.mu.Unlock()
	}
	return out
}
