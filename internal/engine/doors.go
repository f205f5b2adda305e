package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
)

// doorKeeper knows the links at whose address somebody else seems to answer. There nothing is probed until the link is proven
// again: it would be at nobody's asking, at somebody else's door.
type doorKeeper struct {
	mu     sync.Mutex
	closed map[int64]closedDoor // by link
}

type closedDoor struct {
	since time.Time
	words string
}

// shut says why a link must not be probed, "" where it may be. heard is when the link was last proven: by an agent that was
// heard, or an announcement.
func (d *doorKeeper) shut(l site.Link, heard time.Time) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	c, ok := d.closed[l.ID]
	if !ok {
		return ""
	}
	if heard.After(c.since) {
		delete(d.closed, l.ID)
		return ""
	}
	return c.words
}

func (d *doorKeeper) close(linkID int64, now time.Time, words string) (first bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, already := d.closed[linkID]
	d.closed[linkID] = closedDoor{now, words}
	return !already
}

func (d *doorKeeper) open(linkID int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.closed, linkID)
}

// strangerAt has a link left alone whose services are recognised no longer, unless it was proven just now: then the device
// is another, not the address. An address that an operator typed is proven by that.
func (e *Engine) strangerAt(l site.Link, s site.Service, r round, since time.Time) {
	heard := e.SiteSide.LastHeard(l)
	if l.Mode == site.Static || heard.After(since) || e.SiteSide.AnnouncesEvery(l) == 0 && heard.After(r.at.Add(-3*e.config.CheckEvery)) {
		return
	}
	words := fmt.Sprintf("somebody else seems to be at %s: %s shows %s instead of what is pinned, and nothing was heard from the site; it is left alone until link %s is proven again",
		r.address, s.Name, r.fingerprint, l.Label)
	if e.prober.doors.close(l.ID, r.at, words) {
		e.Events.Publish(events.ServiceOutcome, r.site, s.Name, words)
		e.posts.touch(s.SiteID)
		e.faults.review(s.SiteID)
	}
}

// Pin has a service recognised by a fingerprint from now on: by the one that it last showed where none is given.
func (e *Engine) Pin(ctx context.Context, code, name, fingerprint, by string) (contract.Service, error) {
	p, s, err := e.service(code, name)
	if err != nil {
		return contract.Service{}, err
	}
	if fingerprint == "" {
		shown := e.prober.standing(s.ID).shown
		if shown == nil || shown.fingerprint == "" {
			return contract.Service{}, site.Flaws{{Field: "fingerprint", Detail: fmt.Sprintf("%s has not shown any yet; it has to answer first", s.Name)}}
		}
		fingerprint = shown.fingerprint
	}
	if len(fingerprint) > 200 {
		return contract.Service{}, site.Flaws{{Field: "fingerprint", Detail: "has more than 200 characters"}}
	}
	if err := e.unchanged(ctx, serviceResource(s)); err != nil {
		return contract.Service{}, err
	}
	pinned, err := e.pin(ctx, s, fingerprint, by, false)
	if err != nil {
		return contract.Service{}, err
	}
	if !pinned {
		return contract.Service{}, site.Flaws{{Field: "fingerprint", Detail: fmt.Sprintf("%s was edited at this moment; look at it again, then pin", s.Name)}}
	}
	e.Events.Publish(events.RecordEdited, p.Code, s.Name, fmt.Sprintf("%s pinned what %s is recognised by", by, s.Name))
	return e.Service(code, name)
}

// firstAnswer stands for who pinned a fingerprint that was taken at commissioning.
const firstAnswer = "first answer"

// pinFirst pins what a service shows when it answers for the first time since it was put on record.
func (e *Engine) pinFirst(s site.Service, fingerprint string) {
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if _, err := e.pin(ctx, s, fingerprint, firstAnswer, true); err != nil && !e.lost() {
			e.log.Warn("a fingerprint was not pinned; trying again at the next answer", "service", s.Name, "error", err)
		}
	}()
}

// pin records what a revision of a service is recognised by. It does nothing where the service was edited since: what was shown
// belongs to what was there before.
func (e *Engine) pin(ctx context.Context, s site.Service, fingerprint, by string, first bool) (pinned bool, err error) {
	turn, err := e.editing(ctx)
	if err != nil {
		return false, err
	}
	defer turn.done()
	now := e.now()
	if err := e.store.Together(ctx, func(tx *store.Store) (err error) {
		pinned, err = tx.Pin(ctx, s.ID, s.Revision, fingerprint, by, now, first)
		if err != nil || !pinned || first {
			return err
		}
		return tx.NoteEdit(ctx, store.Edit{Kind: "service", Ref: s.ID, Revision: s.Revision + 1, Person: by, At: now, Changes: []store.FieldChange{{Field: "fingerprint"}}})
	}); err != nil || !pinned {
		return pinned, err
	}
	next, ok := e.record.Pin(s, fingerprint, by, now, first)
	if ok {
		e.prober.recognise(next, !first)
		e.posts.touch(s.SiteID)
	}
	return true, nil
}
