package changes

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// ErrNotRecorded reports that the database did not take an announcement: it has no effect, and can be made again.
var ErrNotRecorded = errors.New("not recorded: the database is away; announce again shortly")

// Receipt says what an announcement did.
type Receipt struct {
	Decision  wan.Decision
	MoveID    int64
	Hostnames []string
}

// Pending is an announcement on its way through the group commit.
type Pending struct {
	LinkID   int64
	What     wan.Announcement
	Received time.Time
	Update   bool // it came by DNS UPDATE
	// Done takes the result, once. It must not block; more says that the result of another update follows at once.
	Done func(r Result, more bool)
}

type Result struct {
	Receipt Receipt
	Err     error
}

// commitLimit is how long a group may take: an agent waits a little longer, and is told that it was not recorded.
const commitLimit = 4 * time.Second

// maxGroup is the most announcements in one group.
const maxGroup = 1024

// Static reports a static link as Refused: only a person changes its address.
func Static(l site.Link) error {
	if l.Mode != site.Static {
		return nil
	}
	return Refused{fmt.Sprintf("link %s is static: an operator sets its address, and nothing that is announced moves it", l.Label)}
}

// Refused reports an announcement that must not be followed, with the reason. Nothing was changed.
type Refused struct{ Reason string }

func (e Refused) Error() string { return e.Reason }

// Queue commits an announcement with the next group; ok is false when too many are waiting.
func (ch *Changes) Queue(p Pending) (ok bool) {
	select {
	case ch.queue <- p:
		return true
	default:
		return false
	}
}

// CommitTogether commits announcements as one group.
func (ch *Changes) CommitTogether(ctx context.Context, group []Pending) { ch.commit(ctx, group) }

// Submit commits an announcement with the next group and waits for the result. Errors: those of Writable, ErrLinkGone, Refused,
// wan.ErrNotPublic, ErrNotRecorded.
func (ch *Changes) Submit(ctx context.Context, p Pending) (Receipt, error) {
	if err := ch.host.Writable(); err != nil {
		return Receipt{}, err
	}
	done := make(chan Result, 1)
	p.Done = func(r Result, _ bool) { done <- r }
	select {
	case <-ch.stopping:
		return Receipt{}, ErrNotRecorded
	case ch.queue <- p:
	case <-ctx.Done():
		return Receipt{}, ErrNotRecorded
	}
	select {
	case r := <-done:
		return r.Receipt, r.Err
	case <-ch.stopping:
		ch.turnAway() // the loop may have ended before it saw ours
		select {
		case r := <-done:
			return r.Receipt, r.Err
		case <-time.After(6 * time.Second): // the group that it is in is under way
			return Receipt{}, ErrNotRecorded
		}
	case <-ctx.Done():
		return Receipt{}, ErrNotRecorded
	}
}

// turnAway fails announcements that arrive after the loop has ended.
func (ch *Changes) turnAway() {
	for {
		select {
		case p := <-ch.queue:
			p.Done(Result{Err: ErrNotRecorded}, false)
		default:
			return
		}
	}
}

// runIntake commits announcements in groups: whatever has come while the last group was being committed is the next one.
// So a single announcement does not wait, and thousands a second cost few transactions.
func (ch *Changes) runIntake(ctx context.Context) {
	var left []Pending
	for {
		group := left
		left = nil
		if len(group) == 0 {
			select {
			case p := <-ch.queue:
				group = append(group, p)
			case <-ctx.Done():
				ch.publishing.Lock() // the last group is through
				defer ch.publishing.Unlock()
				return
			}
		}
	collect:
		for len(group) < maxGroup {
			select {
			case p := <-ch.queue:
				group = append(group, p)
			default:
				break collect
			}
		}
		left = ch.commit(ctx, group)
	}
}

// commit decides on each announcement against the newest state and has all that change something accepted as one group.
// They are published and answered while the next group is being recorded. A second announcement for the same link is handed
// back for the next group.
func (ch *Changes) commit(ctx context.Context, group []Pending) (again []Pending) {
	ctx, cancel := context.WithTimeout(ctx, commitLimit)
	defer cancel()
	if ch.edit.Acquire(ctx, 1) != nil {
		for _, p := range group {
			p.Done(Result{Err: ErrNotRecorded}, false)
		}
		return nil
	}
	defer ch.edit.Release(1)
	return ch.commitInOrder(ctx, group)
}

// commitInOrder is commit for whoever holds the edit lock.
func (ch *Changes) commitInOrder(ctx context.Context, group []Pending) (again []Pending) {
	if ch.Moves.Full() {
		if err := ch.Moves.Settle(ctx); err != nil {
			ch.Log.Error("announcements wait to be settled", "error", err)
		}
	}
	r := recorded{accepted: make([]Pending, 0, len(group)), links: make(map[int64]bool, len(group))}
	r.Changes, r.Serials = make([]store.Change, 0, len(group)), map[int64]uint32{}
	changed := make([]site.Link, 0, len(group))
	for _, p := range group {
		where, l, ok := ch.Record.SiteOfLink(p.LinkID)
		if !ok {
			p.Done(Result{Err: ErrLinkGone}, false)
			continue
		}
		if r.links[p.LinkID] {
			again = append(again, p)
			continue
		}
		d, err := wan.Decide(l.Addresses(), p.What, ch.Policy)
		if err == nil {
			err = Static(l) // it may have become one meanwhile
		}
		if err != nil || !d.Changed {
			p.Done(Result{Receipt: Receipt{Decision: d}, Err: err}, false)
			continue
		}
		r.links[p.LinkID] = true
		r.accepted = append(r.accepted, p)
		r.Changes = append(r.Changes, p.Change(l, d))
		l.IPv4, l.IPv6, l.Source, l.Since, l.Heard = d.New.IPv4, d.New.IPv6, p.What.Source, p.Received, p.Received
		changed = append(changed, l)
		ch.Raise(r.Serials, where.FollowingLink(l.ID))
	}
	if len(r.Changes) == 0 {
		return again
	}
	if err := ch.accept(ctx, r.Group); err != nil {
		ch.Log.Error("announcements not recorded", "count", len(r.Changes), "error", err)
		if errors.Is(err, store.ErrNotWriter) {
			ch.Store.Abandon()
		}
		for _, p := range r.accepted {
			p.Done(Result{Err: ErrNotRecorded}, false)
		}
		return again
	}
	r.at = ch.Now()
	for _, l := range changed {
		ch.SiteSide.NoteHeard(l.ID, l.Heard)
	}
	ch.Record.SetLinks(changed)
	ch.Record.SetSerials(r.Serials)
	r.sites = ch.sitesOf(r.Changes)
	ch.publishing.Lock() // before edit is given back, so that groups are published in the order in which they are recorded
	// Where several came at once, more are on their way.
	if len(ch.queue)+len(again) > 0 || len(r.Changes) > 1 {
		go ch.publishGroup(r)
	} else {
		ch.publishGroup(r)
	}
	return again
}

// Change is what the announcement changes, as it was decided for its link.
func (p Pending) Change(l site.Link, d wan.Decision) store.Change {
	return store.Change{SiteID: l.SiteID, LinkID: l.ID, Old: d.Old, New: d.New, Source: p.What.Source, Noticed: p.What.Noticed,
		Received: p.Received}
}

// recorded is a group of announcements that the database has taken.
type recorded struct {
	store.Group
	accepted []Pending // in the order of the changes
	links    map[int64]bool
	sites    map[int64]record.Site
	at       time.Time
}

// publishGroup makes the zones answer what was recorded, replies to the senders, and starts what follows. It releases e.publishing.
func (ch *Changes) publishGroup(r recorded) {
	defer ch.publishing.Unlock()
	if err := ch.Publish(slices.Collect(maps.Values(r.sites)), func(p record.Site) []site.Hostname { return p.Following(r.links) },
		r.Serials); err != nil {
		ch.Log.Error("publish", "error", err)
	}
	published := ch.Now()
	for _, c := range r.Changes { // before anybody is told: who asks then is to see names that settle
		for _, h := range r.sites[c.SiteID].FollowingLink(c.LinkID) {
			ch.Verify.Published(h.ID, published)
		}
	}
	ch.answer(r)
	for _, c := range r.Changes {
		p := r.sites[c.SiteID]
		ch.AfterMove(p, p.FollowingLink(c.LinkID), c, store.Stages{MoveID: c.ID, Recorded: r.at, Published: published})
	}
	for id := range r.sites { // once, however many of its links moved
		ch.Verify.Ask(id)
	}
}

// answer sends the senders their results. Updates need no receipt, and their replies go out together.
func (ch *Changes) answer(r recorded) {
	last := -1
	for i, p := range r.accepted {
		if p.Update {
			last = i
		}
	}
	for i, p := range r.accepted {
		c := r.Changes[i]
		receipt := Receipt{Decision: wan.Decision{Changed: true, Old: c.Old, New: c.New}, MoveID: c.ID}
		if where := r.sites[c.SiteID]; !p.Update {
			for _, h := range where.FollowingLink(p.LinkID) {
				if where.AnswerOf(h) == c.New {
					receipt.Hostnames = append(receipt.Hostnames, string(h.Name))
				}
			}
		}
		p.Done(Result{Receipt: receipt}, i < last)
	}
}

func (ch *Changes) sitesOf(changes []store.Change) map[int64]record.Site {
	out := make(map[int64]record.Site, len(changes))
	for _, c := range changes {
		if _, there := out[c.SiteID]; there {
			continue
		}
		if p, ok := ch.Record.Site(c.SiteID); ok {
			out[c.SiteID] = p
		}
	}
	return out
}
