package engine

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// Every entrance at which an address can be announced (an agent's report, a router's URL, a DNS UPDATE) goes through the rules of
// this file. What kind of key it is decides what it may say: an agent reports what its sources say, and the core weighs that; a
// router and an update say an address. None of them moves a static link, nor a link to an address that is not proven.

// Refused reports an announcement that must not be followed, with the reason. Nothing was changed.
type Refused struct{ Reason string }

func (e Refused) Error() string { return e.Reason }

// Claimant is who announces: the link that the key is for, where the announcement comes from, and what the key may say.
type Claimant struct {
	LinkID  int64
	From    netip.Addr
	Allowed []netip.Prefix
	// Permit is the command with which a person lets the key announce a prefix, but for the prefix.
	Permit string
}

// ClaimantOf gives the claimant of an access key.
func ClaimantOf(k store.Key, from netip.Addr) Claimant {
	return Claimant{LinkID: int64(k.LinkID), From: from, Allowed: k.MayAnnounce, Permit: fmt.Sprintf("inkpost key allow %d", k.ID)}
}

// proof gathers what may stand for an address that a claimant announces.
func (e *Engine) proof(c Claimant) wan.Proof {
	out := wan.Proof{Allowed: c.Allowed}
	if c.From.IsValid() {
		out.Own = append(out.Own, c.From)
	}
	now := e.now()
	e.standings.with(c.LinkID, func(s *linkStanding) {
		for _, o := range s.observed {
			if o.address.IsValid() && now.Sub(o.at) <= observedFor && !slices.Contains(out.Own, o.address) {
				out.Own = append(out.Own, o.address)
			}
		}
	})
	return out
}

// reasonOf puts a refusal into words, with what to do where the address is right.
func (c Claimant) reasonOf(err error) error {
	var unproven wan.ErrUnproven
	if !errors.As(err, &unproven) {
		return err
	}
	return Refused{fmt.Sprintf("%s; where it is right, allow it: %s %s", unproven, c.Permit, netip.PrefixFrom(unproven.Addr, unproven.Addr.BitLen()))}
}

// permits reports as Refused, and notes at the site, what a claimant must not announce in its own words: anything for a static
// link, by a source that the operator left out, or of an address that is not proven.
func (e *Engine) permits(c Claimant, l site.Link, a wan.Announcement) error {
	err := staticLink(l)
	if err == nil && a.Source != wan.SourceObserved && len(l.Sources) > 0 && !slices.Contains(l.Sources, a.Source) {
		err = Refused{fmt.Sprintf("the sources of link %s are set, and %s is not among them; change that with: inkpost link edit SITE %s --source", l.Label, a.Source, l.Label)}
	}
	if err == nil {
		err = e.ownOf(c, l, a)
	}
	if err == nil {
		p := e.proof(c)
		for _, six := range []bool{false, true} {
			if to := a.Addresses.Of(six); to.IsValid() && to != l.Addresses().Of(six) && e.config.Policy.Check(to) == nil && err == nil {
				err = c.reasonOf(p.Check(to))
			}
		}
	}
	if err != nil {
		e.NoteRefusal(c.LinkID, err.Error(), c.From)
	}
	return err
}

// CheckPublic reports addresses that cannot stand for a site, or that there is none, as wan.ErrNotPublic.
func (e *Engine) CheckPublic(p wan.Pair) error {
	_, err := wan.Decide(wan.Pair{}, wan.Announcement{Addresses: p}, e.config.Policy)
	return err
}

// staticLink reports a static link as Refused: only a person changes its address.
func staticLink(l site.Link) error {
	if l.Mode != site.Static {
		return nil
	}
	return Refused{fmt.Sprintf("link %s is static: an operator sets its address, and nothing that is announced moves it", l.Label)}
}

// Fetched takes an announcement that a router made by fetching a URL. The hostnames in except stay where they are. Errors: those of
// Announce, Refused.
func (e *Engine) Fetched(ctx context.Context, c Claimant, a wan.Announcement, except map[string]bool) (Receipt, error) {
	_, l, ok := e.record.SiteOfLink(c.LinkID)
	if !ok {
		return Receipt{}, ErrLinkGone
	}
	if err := e.permits(c, l, a); err != nil {
		return Receipt{}, err
	}
	if _, err := wan.Decide(l.Addresses(), a, e.config.Policy); err != nil {
		return Receipt{}, err
	}
	e.Observe(c.LinkID, c.From)
	// What is to stay is kept before the others move: nobody sees it elsewhere in between.
	if err := e.KeepOut(ctx, c.LinkID, except); err != nil {
		return Receipt{}, err
	}
	r, err := e.Announce(ctx, c.LinkID, a)
	if err == nil {
		e.called(c.LinkID)
	}
	return r, err
}

// Report weighs what an agent's sources say, beside what the server itself sees, and announces what is decided and proven. Errors:
// those of Announce, Refused.
func (e *Engine) Report(ctx context.Context, c Claimant, in Reported) (Receipt, wan.Judgement, error) {
	now := e.now()
	p, l, ok := e.record.SiteOfLink(c.LinkID)
	if !ok {
		return Receipt{}, wan.Judgement{}, ErrLinkGone
	}
	if err := staticLink(l); err != nil {
		e.Observe(c.LinkID, c.From)
		e.NoteRefusal(c.LinkID, err.Error(), c.From)
		return Receipt{}, wan.Judgement{}, err
	}
	if other, ok := e.cameBy(p, l, c.From); ok {
		return e.byOtherLink(l, other, in)
	}
	e.Observe(c.LinkID, c.From)
	w := e.weighing(l, in, now)
	j := wan.Weigh(w)
	if j.Changed {
		proven, err := e.proof(c).Proven(w.Current, j.Addresses)
		if err != nil {
			j.Held = c.reasonOf(err).Error()
			e.NoteRefusal(c.LinkID, j.Held, c.From)
		}
		j.Addresses, j.Changed = proven, proven != w.Current
	}
	receipt := Receipt{Decision: wan.Decision{Old: w.Current, New: w.Current}}
	if j.Changed {
		a := wan.Announcement{Source: in.Source, Noticed: in.Noticed, NoIPv4: j.Withdrawn.IPv4.IsValid(), NoIPv6: j.Withdrawn.IPv6.IsValid()}
		for _, six := range []bool{false, true} {
			if to := j.Addresses.Of(six); to != w.Current.Of(six) {
				a.Addresses = a.Addresses.With(six, to)
			}
		}
		var err error
		if receipt, err = e.Announce(ctx, c.LinkID, a); err != nil {
			return receipt, j, err
		}
	} else {
		e.heard.note(c.LinkID, now)
	}
	e.noteStanding(c.LinkID, in, w, j, receipt.Decision.Changed)
	return receipt, j, nil
}

// weighing gathers everything that is known of a link's address at one moment.
func (e *Engine) weighing(l site.Link, in Reported, now time.Time) wan.Weighing {
	w := wan.Weighing{Now: now, Current: l.Addresses(), Order: l.Sources, RouterWAN: l.RouterWAN, Chain: in.Chain, Policy: e.config.Policy}
	e.standings.with(l.ID, func(s *linkStanding) {
		for _, o := range s.observed {
			if o.address.IsValid() && now.Sub(o.at) <= observedFor {
				w.Reports = append(w.Reports, wan.Report{Source: wan.SourceObserved, Via: "server", Addresses: wan.PairOf(o.address), At: o.at})
			}
		}
		w.Moves = slices.Clone(s.moves)
	})
	for _, r := range in.Reports {
		if r.Source != wan.SourceObserved { // what we see counts, whatever the sender believes
			w.Reports = append(w.Reports, r)
		}
	}
	e.standings.with(l.ID, func(s *linkStanding) {
		for i, six := range []bool{false, true} {
			if s.lacks[i]++; len(in.Reports) == 0 || !w.Lacking(six) {
				s.lacks[i] = 0
			}
		}
		w.Lacks, w.Own = s.lacks, wan.Pair{IPv4: s.view.OwnIPv4, IPv6: s.view.OwnIPv6}
	})
	w.Since = e.steadySince(l.ID, w, now)
	return w
}
