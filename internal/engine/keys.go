package engine

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
	"inkpost.example/inkpost/internal/store"
)

// EditKeys implements access.Editor.
func (e *Engine) EditKeys(ctx context.Context, words string, write func(context.Context, *store.Store, *access.Touched) error) error {
	defer e.rooms.Notices.Edited() // who is told of what depends on what they see
	return e.Change(ctx, func() (changes.Edit, error) {
		touched := &record.Touched{}
		return changes.Edit{Words: words, Touched: touched, Write: func(ctx context.Context, tx *store.Store) error {
			var of access.Touched
			err := write(ctx, tx, &of)
			touched.Keys, touched.Vantages = of.Keys, of.Vantages
			for _, linkID := range of.Links {
				p, _, _ := e.rooms.Record.SiteOfLink(linkID)
				touched.Sites = append(touched.Sites, p.ID)
			}
			return err
		}}, nil
	})
}

func newKeyView(k access.NewKey, holder string) contract.Key {
	return contract.Key{ID: k.ID, Scope: k.Scope, May: store.Purpose(k.Scope, k.May), Label: k.Label, Holder: holder, Created: k.Created,
		Expires:     k.Expires,
		MayAnnounce: k.MayAnnounce, Secret: k.Secret}
}

// AddKey makes a key for programs of a person. Errors: those of Access.AddKey.
func (e *Engine) AddKey(ctx context.Context, personID int64, person string, in contract.KeyInput) (contract.Key, error) {
	may, err := team.ParseRight(cmp.Or(in.May, string(team.Edit)))
	if err != nil {
		return contract.Key{}, site.Flaws{{Field: "may", Detail: err.Error()}}
	}
	k, err := e.rooms.Access.AddKey(ctx, personID, in.Label, may, in.Expires)
	return newKeyView(k, person), err
}

// AddCalendarKey makes a key that reads the calendar by its URL. Errors: site.Flaws, those of edits.
func (e *Engine) AddCalendarKey(ctx context.Context, personID int64, person, label string) (contract.Key, error) {
	k, err := e.rooms.Access.AddCalendarKey(ctx, personID, label)
	return newKeyView(k, person), err
}

// AddRouterKey makes a key for a router of a link that announces by itself. Errors: store.Missing, site.Flaws, those of edits.
func (e *Engine) AddRouterKey(ctx context.Context, code, label string, in contract.KeyInput) (contract.Key, error) {
	p, l, err := e.announcedLink(code, label)
	if err != nil {
		return contract.Key{}, err
	}
	k, err := e.rooms.Access.AddRouterKey(ctx, l.ID, in.Label, in.MayAnnounce)
	return newKeyView(k, p.Code+" "+l.Label), err
}

// announcedLink finds a link whose address is announced. Errors: store.Missing, site.Flaws for a static one.
func (e *Engine) announcedLink(code, label string) (record.Site, site.Link, error) {
	p, l, err := e.rooms.FindLink(code, label)
	if err == nil && l.Mode == site.Static {
		err = site.Flaws{{Field: "link", Detail: fmt.Sprintf("link %s is static: an operator sets its address, and nobody "+
			"announces it", l.Label)}}
	}
	return p, l, err
}

// Invite makes a one-time code with which an agent of a link enrols. Errors: store.Missing, site.Flaws, that of the database.
func (e *Engine) Invite(ctx context.Context, code, label string, in contract.InvitationInput) (contract.Invitation, error) {
	p, l, err := e.announcedLink(code, label)
	if err != nil {
		return contract.Invitation{}, err
	}
	inv := contract.Invitation{Site: p.Code, Link: l.Label}
	inv.Code, inv.Expires, err = e.rooms.Access.Invite(ctx, l.ID, in.MayAnnounce)
	return inv, err
}

// Enrol returns an agent its key for a one-time code. Errors: access.ErrCode, site.Flaws.
func (e *Engine) Enrol(ctx context.Context, in contract.Enrolment) (contract.Enrolled, error) {
	key, linkID, err := e.rooms.Access.Enrol(ctx, in.Code, in.Claim, in.Label)
	if err != nil {
		return contract.Enrolled{}, err
	}
	e.rooms.SiteSide.NoteHeard(linkID, e.rooms.Now())
	p, l, _ := e.rooms.Record.SiteOfLink(linkID)
	return contract.Enrolled{Key: key, Site: p.Code, Link: l.Label, CheckSeconds: e.rooms.CheckEvery.Seconds()}, nil
}

// CheckEvery is how often agents are asked to check their address.
func (e *Engine) CheckEvery() time.Duration { return e.rooms.CheckEvery }

// Ping reports whether the database answers. Error: that of the database.
func (e *Engine) Ping(ctx context.Context) error { return e.rooms.Store.Ping(ctx) }

// runKeyUse writes when keys were last used, in bulk, until ctx ends; what is left then is written first.
func (e *Engine) runKeyUse(ctx context.Context) {
	tick := rounds.Every(5 * time.Second)
	defer tick.Stop()
	for last := false; !last; {
		select {
		case <-tick.C:
			tick.Begun()
		case <-ctx.Done():
			last = true
		}
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		if err := e.rooms.Access.WriteKeyUse(bounded); err != nil {
			e.rooms.Log.Warn("when keys were last used could not be written", "error", err)
		}
		cancel()
	}
}
