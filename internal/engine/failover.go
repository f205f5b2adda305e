package engine

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// failover knows which links of sites with several have nothing coming through.
type failover struct {
	down    map[int64]time.Time // when an agent of the site said that nothing goes through the link
	working map[int64]time.Time // since when a link that failed has been working
	tried   map[int64]time.Time // when the silence began for which a link's services were tried
}

// Downed notes that the agent of one link gets nothing through others of the same site.
func (e *Engine) Downed(linkID int64, labels []string) {
	p, _, ok := e.record.SiteOfLink(linkID)
	if !ok || len(labels) == 0 {
		return
	}
	now := e.now()
	e.standings.mu.Lock()
	for _, label := range labels {
		if l, err := p.LinkNamed(label); err == nil && l.ID != linkID {
			e.failover.down[l.ID] = now
		}
	}
	e.standings.mu.Unlock()
	if err := e.reviewLinks(context.Background(), p.ID); err != nil {
		e.log.Warn("hostnames do not follow another link; trying again", "site", p.Code, "error", err)
	}
}

// cameBy gives the other link of the same site by which something came that was sent for a link. Behind a provider that translates,
// two links may have one address: there it says nothing.
func (e *Engine) cameBy(p record.Site, l site.Link, from netip.Addr) (site.Link, bool) {
	other, is := p.OtherLinkAt(from, l.ID)
	for _, id := range []int64{l.ID, other.ID} {
		if v := e.standings.view(id); v != nil && v.NAT == wan.NATCarrier {
			return site.Link{}, false
		}
	}
	return other, is
}

// byOtherLink takes a report that came by another link of the same site: the router sends the agent out by that one, and so nothing
// comes through the agent's own.
func (e *Engine) byOtherLink(l, other site.Link, in Reported) (Receipt, wan.Judgement, error) {
	w := wan.Weighing{Now: e.now(), Current: l.Addresses(), Policy: e.config.Policy, Reports: in.Reports, Lacks: [2]int{}}
	j := wan.Judgement{Addresses: w.Current, NAT: wan.NAT{Verdict: wan.NATUnknown}, Held: byOther(l, other)}
	e.noteStanding(l.ID, in, w, j, false)
	e.Downed(other.ID, []string{l.Label})
	return Receipt{Decision: wan.Decision{Old: w.Current, New: w.Current}}, j, nil
}

func byOther(l, other site.Link) string {
	return fmt.Sprintf("what was sent for link %s came by link %s (%s): link %s is down, and the router uses the other one", l.Label, other.Label, other.Addresses(), l.Label)
}

// ownOf reports as Refused, and takes for a sign that the link is down, an announcement for one link with another's address.
func (e *Engine) ownOf(c Claimant, l site.Link, a wan.Announcement) error {
	p, _, ok := e.record.SiteOfLink(l.ID)
	for _, six := range []bool{false, true} {
		if other, is := e.cameBy(p, l, a.Addresses.Of(six)); ok && is {
			e.Downed(other.ID, []string{l.Label})
			return Refused{byOther(l, other)}
		}
	}
	return nil
}

// runFailover has hostnames follow the next link of a site when the preferred one fails, and come back after it has worked for a
// while.
func (e *Engine) runFailover(ctx context.Context) {
	tick := time.NewTicker(min(time.Second, e.config.CheckEvery/4+50*time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		for _, p := range e.record.Sites() {
			if len(p.Links) < 2 {
				continue
			}
			if err := e.reviewLinks(ctx, p.ID); err != nil && ctx.Err() == nil {
				e.log.Warn("hostnames do not follow another link; trying again", "site", p.Code, "error", err)
			}
		}
	}
}

// failingNow says which links of a site have to be taken for failing now.
func (e *Engine) failingNow(p record.Site, now time.Time) (failing map[int64]bool) {
	failing = make(map[int64]bool, len(p.Links))
	e.standings.mu.Lock()
	defer e.standings.mu.Unlock()
	for l := range p.EachLink() {
		signs := site.LinkSigns{Heard: e.heard.last(l), Every: e.config.CheckEvery, Agent: l.Agent, Down: e.failover.down[l.ID], Proven: e.prober.provenOn(l.ID)}
		switch fails := signs.Fails(now, e.listening); {
		case fails:
			failing[l.ID] = true
			delete(e.failover.working, l.ID)
		case l.Failing:
			if e.failover.working[l.ID].IsZero() {
				e.failover.working[l.ID] = now
			}
			failing[l.ID] = now.Sub(e.failover.working[l.ID]) < e.config.HoldDown
		}
	}
	return failing
}

// tryServices probes the services of links whose agents are silent, so that what can be reached still counts.
func (e *Engine) tryServices(p record.Site, now time.Time) {
	for l := range p.EachLink() {
		heard := e.heard.last(l)
		if e.listening.After(heard) {
			heard = e.listening
		}
		if !l.Agent || now.Sub(heard) <= e.config.CheckEvery {
			continue
		}
		e.standings.mu.Lock()
		known := e.failover.tried[l.ID].Equal(heard)
		e.failover.tried[l.ID] = heard
		e.standings.mu.Unlock()
		if !known {
			e.prober.hurryOn(p, l.ID)
		}
	}
}

// reviewLinks brings a site's links in line with what comes through them, and its hostnames with that.
func (e *Engine) reviewLinks(ctx context.Context, siteID int64) error {
	p, ok := e.record.Site(siteID)
	if !ok {
		return nil
	}
	e.tryServices(p, e.now())
	if sameFailing(p, e.failingNow(p, e.now())) {
		return nil
	}
	turn, err := e.editing(ctx)
	if err != nil {
		return err
	}
	defer turn.done()
	p, ok = e.record.Site(siteID)
	if !ok {
		return nil
	}
	failing := e.failingNow(p, e.now())
	before, _ := p.Preferred()
	links, states := make([]site.Link, 0, len(p.Links)), make(map[int64]bool, len(p.Links))
	for l := range p.EachLink() {
		l.Failing, states[l.ID] = failing[l.ID], failing[l.ID]
		links = append(links, l)
	}
	after, _ := site.Preferred(slices.Values(links))
	var zones []int64
	if after.ID != before.ID {
		zones = p.ZoneIDs()
	}
	var serials map[int64]uint32
	if err := e.store.Together(ctx, func(tx *store.Store) (err error) { serials, err = tx.NoteFailing(ctx, states, zones); return err }); err != nil {
		return err
	}
	e.record.SetLinks(links)
	if after.ID == before.ID {
		e.faults.review(p.ID)
		return nil
	}
	e.record.SetSerials(serials)
	moved, _ := e.record.Site(siteID)
	if err := e.publish([]record.Site{moved}, record.Site.FollowingPreferred, serials); err != nil {
		return err
	}
	now := e.now()
	for _, h := range moved.FollowingPreferred() {
		e.names.publish(h.ID, now)
	}
	e.Events.Publish(events.LinkReport, p.Code, after.Label, fmt.Sprintf("hostnames of %s follow link %s (%s) instead of %s", p.Code, after.Label, after.Addresses(), before.Label))
	e.posts.touch(p.ID)
	e.prober.moved(moved, after.ID)
	e.askAgain(p.ID)
	e.faults.review(p.ID)
	return nil
}

func sameFailing(p record.Site, failing map[int64]bool) bool {
	for l := range p.EachLink() {
		if l.Failing != failing[l.ID] {
			return false
		}
	}
	return true
}
