package engine

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

// ErrNotRecorded reports that the database did not take an announcement: it has no effect, and can be made again.
var ErrNotRecorded = errors.New("not recorded: the database is away; announce again shortly")

// ErrLinkGone reports an announcement for a link that is no longer on record.
var ErrLinkGone = siteside.ErrLinkGone

// ErrNoAgent reports that no agent of the site is there to ask.
var ErrNoAgent = siteside.ErrNoAgent

// Receipt says what an announcement did.
type Receipt struct {
	Decision  wan.Decision
	MoveID    int64
	Hostnames []string
}

// pending is an announcement on its way through the group commit.
type pending struct {
	linkID   int64
	what     wan.Announcement
	received time.Time
	update   bool // it came by DNS UPDATE
	// done takes the result, once. It does not keep the caller; more says that another update's follows at once.
	done func(r result, more bool)
}

type result struct {
	receipt Receipt
	err     error
}

// commitLimit is how long a group may take: an agent waits a little longer, and is told that it was not recorded.
const commitLimit = 4 * time.Second

// commitMost is the most announcements in one group.
const commitMost = 1024

// Announce takes an announcement in. When it returns without error and something changed, the change is committed with
// its history and the hosted zones answer it. Whether the address is proven was asked before. Errors: wan.ErrNotPublic, Refused,
// ErrLinkGone, ErrNotRecorded.
func (e *Engine) Announce(ctx context.Context, linkID int64, a wan.Announcement) (Receipt, error) {
	now := e.now()
	_, l, ok := e.record.SiteOfLink(linkID)
	if !ok {
		return Receipt{}, ErrLinkGone
	}
	if err := staticLink(l); err != nil {
		return Receipt{}, err
	}
	d, err := wan.Decide(l.Addresses(), a, e.config.Policy)
	if err != nil {
		return Receipt{}, err
	}
	if !d.Changed {
		e.SiteSide.NoteHeard(linkID, now)
		return Receipt{Decision: d}, nil
	}
	if err := e.Writable(); err != nil {
		return Receipt{}, err
	}
	done := make(chan result, 1)
	select {
	case <-e.stopping:
		return Receipt{}, ErrNotRecorded
	case e.intake <- pending{linkID: linkID, what: a, received: now, done: func(r result, _ bool) { done <- r }}:
	case <-ctx.Done():
		return Receipt{}, ErrNotRecorded
	}
	select {
	case r := <-done:
		return r.receipt, r.err
	case <-e.stopping:
		e.turnAway() // the loop may have ended before it saw ours
		select {
		case r := <-done:
			return r.receipt, r.err
		case <-time.After(6 * time.Second): // the group that it is in is under way
			return Receipt{}, ErrNotRecorded
		}
	case <-ctx.Done():
		return Receipt{}, ErrNotRecorded
	}
}

// turnAway answers announcements that nobody takes any more.
func (e *Engine) turnAway() {
	for {
		select {
		case p := <-e.intake:
			p.done(result{err: ErrNotRecorded}, false)
		default:
			return
		}
	}
}

// runIntake commits announcements in groups: whatever has come while the last group was being committed is the next one.
// So a single announcement does not wait, and thousands a second cost few transactions.
func (e *Engine) runIntake(ctx context.Context) {
	var left []pending
	for {
		group := left
		left = nil
		if len(group) == 0 {
			select {
			case p := <-e.intake:
				group = append(group, p)
			case <-ctx.Done():
				e.publishing.Lock() // the last group is through
				defer e.publishing.Unlock()
				return
			}
		}
	collect:
		for len(group) < commitMost {
			select {
			case p := <-e.intake:
				group = append(group, p)
			default:
				break collect
			}
		}
		left = e.commit(ctx, group)
	}
}

// commit decides on each announcement against the newest state and has all that change something accepted as one group.
// They are published and answered while the next group is being recorded. A second announcement for the same link is handed
// back for the next group.
func (e *Engine) commit(ctx context.Context, group []pending) (again []pending) {
	ctx, cancel := context.WithTimeout(ctx, commitLimit)
	defer cancel()
	if e.edit.Acquire(ctx, 1) != nil {
		for _, p := range group {
			p.done(result{err: ErrNotRecorded}, false)
		}
		return nil
	}
	defer e.edit.Release(1)
	return e.commitInOrder(ctx, group)
}

// commitInOrder is commit for whoever holds the edit lock.
func (e *Engine) commitInOrder(ctx context.Context, group []pending) (again []pending) {
	if e.moves.Full() {
		if err := e.moves.Settle(ctx); err != nil {
			e.log.Error("announcements wait to be settled", "error", err)
		}
	}
	r := recorded{accepted: make([]pending, 0, len(group)), links: make(map[int64]bool, len(group))}
	r.Changes, r.Serials = make([]store.Change, 0, len(group)), map[int64]uint32{}
	changed := make([]site.Link, 0, len(group))
	for _, p := range group {
		where, l, ok := e.record.SiteOfLink(p.linkID)
		if !ok {
			p.done(result{err: ErrLinkGone}, false)
			continue
		}
		if r.links[p.linkID] {
			again = append(again, p)
			continue
		}
		d, err := wan.Decide(l.Addresses(), p.what, e.config.Policy)
		if err == nil {
			err = staticLink(l) // it may have become one meanwhile
		}
		if err != nil || !d.Changed {
			p.done(result{receipt: Receipt{Decision: d}, err: err}, false)
			continue
		}
		r.links[p.linkID] = true
		r.accepted = append(r.accepted, p)
		r.Changes = append(r.Changes, p.change(l, d))
		l.IPv4, l.IPv6, l.Source, l.Since, l.Heard = d.New.IPv4, d.New.IPv6, p.what.Source, p.received, p.received
		changed = append(changed, l)
		e.raise(r.Serials, where.FollowingLink(l.ID))
	}
	if len(r.Changes) == 0 {
		return again
	}
	if err := e.accept(ctx, r.Group); err != nil {
		e.log.Error("announcements not recorded", "count", len(r.Changes), "error", err)
		if errors.Is(err, store.ErrNotWriter) {
			e.loseLease()
		}
		for _, p := range r.accepted {
			p.done(result{err: ErrNotRecorded}, false)
		}
		return again
	}
	r.at = e.now()
	for _, l := range changed {
		e.SiteSide.NoteHeard(l.ID, l.Heard)
	}
	e.record.SetLinks(changed)
	e.record.SetSerials(r.Serials)
	r.sites = e.sitesOf(r.Changes)
	e.publishing.Lock() // before edit is given back, so that groups are published in the order in which they are recorded
	// Where several came at once, more are on their way.
	if len(e.intake)+len(again) > 0 || len(r.Changes) > 1 {
		go e.publishGroup(r)
	} else {
		e.publishGroup(r)
	}
	return again
}

// As many IDs of moves are fetched at once as were used so far, within these bounds. What is left of them when the server stops
// is never used.
const movesAhead, movesAheadMost = 16, 4096

// accept gives the changes of a group the IDs of their moves and makes it durable.
func (e *Engine) accept(ctx context.Context, g store.Group) error {
	if err := e.number(ctx, g.Changes); err != nil {
		return e.writes.note(err, e.now())
	}
	if err := e.writes.note(e.store.Accept(ctx, g), e.now()); err != nil {
		return err
	}
	e.moves.Accept(g)
	signal(e.tellMembers)
	return nil
}

// number gives changes the IDs of their moves, whether they come to be recorded or not.
func (e *Engine) number(ctx context.Context, changes []store.Change) error {
	if missing := len(changes) - len(e.moveIDs); missing > 0 {
		ids, err := e.store.MoveIDs(ctx, missing+min(max(e.movesUsed, movesAhead), movesAheadMost))
		if err != nil {
			return err
		}
		e.moveIDs = append(e.moveIDs, ids...)
	}
	for i := range changes {
		changes[i].ID = e.moveIDs[i]
	}
	e.movesUsed += len(changes)
	e.moveIDs = e.moveIDs[len(changes):]
	return nil
}

// change is what the announcement changes, as it was decided for its link.
func (p pending) change(l site.Link, d wan.Decision) store.Change {
	return store.Change{SiteID: l.SiteID, LinkID: l.ID, Old: d.Old, New: d.New, Source: p.what.Source, Noticed: p.what.Noticed, Received: p.received}
}

// raise has the zones of some hostnames have their next serials.
func (e *Engine) raise(serials map[int64]uint32, hostnames []site.Hostname) {
	for _, h := range hostnames {
		if _, raised := serials[h.ZoneID]; !raised {
			serials[h.ZoneID] = names.NextSerial(e.record.Zone(h.ZoneID).Serial)
		}
	}
}

// recorded is a group of announcements that the database has taken.
type recorded struct {
	store.Group
	accepted []pending // in the order of the changes
	links    map[int64]bool
	sites    map[int64]record.Site
	at       time.Time
}

// publishGroup has the zones answer what was recorded, tells those who announced it, and sets off what follows. It gives back
// e.publishing.
func (e *Engine) publishGroup(r recorded) {
	defer e.publishing.Unlock()
	if err := e.publish(slices.Collect(maps.Values(r.sites)), func(p record.Site) []site.Hostname { return p.Following(r.links) }, r.Serials); err != nil {
		e.log.Error("publish", "error", err)
	}
	published := e.now()
	for _, c := range r.Changes { // before anybody is told: who asks then is to see names that settle
		for _, h := range r.sites[c.SiteID].FollowingLink(c.LinkID) {
			e.verify.Published(h.ID, published)
		}
	}
	e.answer(r)
	for _, c := range r.Changes {
		p := r.sites[c.SiteID]
		e.afterMove(p, p.FollowingLink(c.LinkID), c, store.Stages{MoveID: c.ID, Recorded: r.at, Published: published})
	}
	for id := range r.sites { // once, however many of its links moved
		e.verify.Ask(id)
	}
}

// answer gives those who announced their results. Updates need no receipt, and their replies go out together.
func (e *Engine) answer(r recorded) {
	last := -1
	for i, p := range r.accepted {
		if p.update {
			last = i
		}
	}
	for i, p := range r.accepted {
		c := r.Changes[i]
		receipt := Receipt{Decision: wan.Decision{Changed: true, Old: c.Old, New: c.New}, MoveID: c.ID}
		if where := r.sites[c.SiteID]; !p.update {
			for _, h := range where.FollowingLink(p.linkID) {
				if where.AnswerOf(h) == c.New {
					receipt.Hostnames = append(receipt.Hostnames, string(h.Name))
				}
			}
		}
		p.done(result{receipt: receipt}, i < last)
	}
}

func (e *Engine) sitesOf(changes []store.Change) map[int64]record.Site {
	out := make(map[int64]record.Site, len(changes))
	for _, c := range changes {
		if _, there := out[c.SiteID]; there {
			continue
		}
		if p, ok := e.record.Site(c.SiteID); ok {
			out[c.SiteID] = p
		}
	}
	return out
}

// afterMove sets off what follows a published move: proof that the names that follow the link answer it, and that the
// services do.
func (e *Engine) afterMove(p record.Site, following []site.Hostname, c store.Change, s store.Stages) {
	if !e.push.AtOnce(following) {
		s.Published = time.Time{} // its primaries have to take it first
	}
	e.moves.Begin(moves.Open{ID: s.MoveID, SiteID: p.ID, LinkID: c.LinkID, Zones: e.push.ZonesOf(following), Unseen: e.verify.Resolvable(following), Waiting: e.prober.ExpectedOn(p, c.LinkID)})
	e.moves.Reached(s)
	e.Events.Publish(events.MoveRecorded, p.Code, strconv.FormatInt(s.MoveID, 10), "the address went from "+c.Old.String()+" to "+c.New.String())
	e.prober.Moved(p, c.LinkID)
	e.moves.Changed(c.LinkID, c.Noticed)
}
