package intake

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

// Every entrance at which an address can be announced (an agent's report, a router's URL, a DNS UPDATE) goes through the rules of
// this file. What kind of key it is decides what it may say: an agent reports what its sources say, and the core weighs that; a
// router and an update say an address. None of them moves a static link, nor a link to an address that is not proven.

// Claimant is who announces: the link that the key is for, where the announcement comes from, and what the key may say.
type Claimant struct {
	LinkID  int64
	From    netip.Addr
	Allowed []netip.Prefix
	// Permit is the command with which a person lets the key announce a prefix, but for the prefix.
	Permit string
}

// ClaimantOf returns the claimant of an access key.
func ClaimantOf(k store.Key, from netip.Addr) Claimant {
	return Claimant{LinkID: int64(k.LinkID), From: from, Allowed: k.MayAnnounce, Permit: fmt.Sprintf("inkpost key allow %d", k.ID)}
}

// proof gathers what vouches for an address that a claimant announces.
func (e *Intake) proof(c Claimant) wan.Proof {
	out := wan.Proof{Allowed: c.Allowed}
	if c.From.IsValid() {
		out.Own = append(out.Own, c.From)
	}
	for _, a := range e.SiteSide.Observed(c.LinkID) {
		if !slices.Contains(out.Own, a) {
			out.Own = append(out.Own, a)
		}
	}
	return out
}

// reasonOf puts a refusal into words, with what to do where the address is right.
func (c Claimant) reasonOf(err error) error {
	var unproven wan.ErrUnproven
	if !errors.As(err, &unproven) {
		return err
	}
	return changes.Refused{Reason: fmt.Sprintf("%s; if it is right, allow it: %s %s", unproven, c.Permit,
		netip.PrefixFrom(unproven.Addr, unproven.Addr.BitLen()))}
}

// permits reports as Refused, and notes at the site, what a claimant must not announce in its own words: anything for a static
// link, by a source that the operator left out, or of an address that is not proven.
func (e *Intake) permits(c Claimant, l site.Link, a wan.Announcement) error {
	err := changes.Static(l)
	if err == nil && a.Source != wan.SourceObserved && len(l.Sources) > 0 && !slices.Contains(l.Sources, a.Source) {
		err = changes.Refused{Reason: fmt.Sprintf("the sources of link %s are set, and %s is not among them; change that with: "+
			"inkpost link edit SITE %s --source", l.Label, a.Source, l.Label)}
	}
	if err == nil {
		err = e.ownOf(l, a)
	}
	if err == nil {
		p := e.proof(c)
		for _, six := range []bool{false, true} {
			if to := a.Addresses.Of(six); to.IsValid() && to != l.Addresses().Of(six) && e.Policy.Check(to) == nil && err == nil {
				err = c.reasonOf(p.Check(to))
			}
		}
	}
	if err != nil {
		e.SiteSide.NoteRefusal(c.LinkID, err.Error(), c.From)
	}
	return err
}

// CheckPublic reports addresses that cannot stand for a site, or that there is none, as wan.ErrNotPublic.
func (e *Intake) CheckPublic(p wan.Pair) error {
	_, err := wan.Decide(wan.Pair{}, wan.Announcement{Addresses: p}, e.Policy)
	return err
}

// Announce accepts an announcement. When it returns without error and something changed, the change is committed with its history and the
// hosted zones answer it. Whether the address is proven was asked before. Errors: wan.ErrNotPublic, those of Changes.Submit.
func (e *Intake) Announce(ctx context.Context, linkID int64, a wan.Announcement) (changes.Receipt, error) {
	now := e.Now()
	_, l, ok := e.Record.SiteOfLink(linkID)
	if !ok {
		return changes.Receipt{}, changes.ErrLinkGone
	}
	if err := changes.Static(l); err != nil {
		return changes.Receipt{}, err
	}
	d, err := wan.Decide(l.Addresses(), a, e.Policy)
	if err != nil {
		return changes.Receipt{}, err
	}
	if !d.Changed {
		e.SiteSide.NoteHeard(linkID, now)
		return changes.Receipt{Decision: d}, nil
	}
	return e.Submit(ctx, changes.Pending{LinkID: linkID, What: a, Received: now})
}

// Fetched accepts an announcement that a router made by fetching a URL. The hostnames in except are held where they are. Errors: those of
// Announce, Refused.
func (e *Intake) Fetched(ctx context.Context, c Claimant, a wan.Announcement, except map[string]bool) (r changes.Receipt, err error) {
	defer func() { e.count(counters.ByRouter, r, false, err) }()
	_, l, ok := e.Record.SiteOfLink(c.LinkID)
	if !ok {
		return changes.Receipt{}, changes.ErrLinkGone
	}
	if err := e.permits(c, l, a); err != nil {
		return changes.Receipt{}, err
	}
	if _, err := wan.Decide(l.Addresses(), a, e.Policy); err != nil {
		return changes.Receipt{}, err
	}
	e.SiteSide.Observe(c.LinkID, c.From)
	// What is to stay is held before the others move: it is never seen elsewhere in between.
	if err := e.edits.HoldBack(ctx, c.LinkID, except); err != nil {
		return changes.Receipt{}, err
	}
	r, err = e.Announce(ctx, c.LinkID, a)
	if err == nil {
		e.SiteSide.NoteCalled(c.LinkID)
	}
	return r, err
}

// Report weighs what an agent's sources say, beside what the server itself sees, and announces what is decided and proven. Errors:
// those of Announce, Refused.
func (e *Intake) Report(ctx context.Context, c Claimant, in siteside.Reported) (receipt changes.Receipt, j wan.Judgement, err error) {
	defer func() { e.count(counters.ByAgent, receipt, j.Held != "", err) }()
	now := e.Now()
	p, l, ok := e.Record.SiteOfLink(c.LinkID)
	if !ok {
		return changes.Receipt{}, wan.Judgement{}, changes.ErrLinkGone
	}
	if err := changes.Static(l); err != nil {
		e.SiteSide.Observe(c.LinkID, c.From)
		e.SiteSide.NoteRefusal(c.LinkID, err.Error(), c.From)
		return changes.Receipt{}, wan.Judgement{}, err
	}
	if other, ok := e.SiteSide.CameBy(p, l, c.From); ok {
		return e.byOtherLink(l, other, in)
	}
	e.SiteSide.Observe(c.LinkID, c.From)
	w := e.SiteSide.Weighing(l, in, now)
	j = wan.Weigh(w)
	if j.Changed {
		proven, err := e.proof(c).Proven(w.Current, j.Addresses)
		if err != nil {
			j.Held = c.reasonOf(err).Error()
			e.SiteSide.NoteRefusal(c.LinkID, j.Held, c.From)
		}
		j.Addresses, j.Changed = proven, proven != w.Current
	}
	receipt = changes.Receipt{Decision: wan.Decision{Old: w.Current, New: w.Current}}
	if j.Changed {
		a := wan.Announcement{Source: in.Source, Noticed: in.Noticed, NoIPv4: j.Withdrawn.IPv4.IsValid(),
			NoIPv6: j.Withdrawn.IPv6.IsValid()}
		for _, six := range []bool{false, true} {
			if to := j.Addresses.Of(six); to != w.Current.Of(six) {
				a.Addresses = a.Addresses.With(six, to)
			}
		}
		if receipt, err = e.Announce(ctx, c.LinkID, a); err != nil {
			return receipt, j, err
		}
	} else {
		e.SiteSide.NoteHeard(c.LinkID, now)
	}
	e.SiteSide.NoteReport(c.LinkID, in, w, j, receipt.Decision.Changed)
	return receipt, j, nil
}

// count counts an announcement, and what came of it.
func (e *Intake) count(way string, r changes.Receipt, held bool, err error) {
	outcome := "unchanged"
	var refused changes.Refused
	var notPublic wan.ErrNotPublic
	switch {
	case errors.As(err, &refused), errors.As(err, &notPublic):
		outcome = "refused"
	case err != nil:
		outcome = "failed"
	case r.Decision.Changed:
		outcome = "changed"
	case held:
		outcome = "held"
	}
	e.Counters.Announced(way, outcome)
}

// byOtherLink handles a report that came by another link of the same site: the router sends the agent out by that one, so the agent's own
// link is down.
func (e *Intake) byOtherLink(l, other site.Link, in siteside.Reported) (changes.Receipt, wan.Judgement, error) {
	w := wan.Weighing{Now: e.Now(), Current: l.Addresses(), Policy: e.Policy, Reports: in.Reports, Lacks: [2]int{}}
	j := wan.Judgement{Addresses: w.Current, NAT: wan.NAT{Verdict: wan.NATUnknown}, Held: siteside.ByOtherLink(l, other)}
	e.SiteSide.NoteReport(l.ID, in, w, j, false)
	e.SiteSide.NoteDown(other.ID, []string{l.Label})
	return changes.Receipt{Decision: wan.Decision{Old: w.Current, New: w.Current}}, j, nil
}

// ownOf returns Refused for an announcement for one link with another's address, and takes it as a sign that the link is down.
func (e *Intake) ownOf(l site.Link, a wan.Announcement) error {
	p, _, ok := e.Record.SiteOfLink(l.ID)
	for _, six := range []bool{false, true} {
		if other, is := e.SiteSide.CameBy(p, l, a.Addresses.Of(six)); ok && is {
			e.SiteSide.NoteDown(other.ID, []string{l.Label})
			return changes.Refused{Reason: siteside.ByOtherLink(l, other)}
		}
	}
	return nil
}
