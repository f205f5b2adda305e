package access

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/store"
)

// ErrKey reports a key that is unknown or revoked.
var ErrKey = errors.New("this key is not valid: it is unknown, was revoked or has expired; ask for another")

// NewKey is a key that was just made, with its secret, which is not kept.
type NewKey struct {
	ID          int64
	Scope       string
	Label       string
	May         team.Right // of a key of a person
	Created     time.Time
	Expires     time.Time // zero never
	MayAnnounce []netip.Prefix
	Secret      string
}

// AddKey makes a key for a person's programs. It is good until expires, five years from now at most; for a year when that is the zero
// time. Error: site.Flaws.
func (a *Access) AddKey(ctx context.Context, personID int64, label string, may team.Right, expires time.Time) (NewKey, error) {
	return a.addPersonKey(ctx, store.ScopePerson, personID, label, may, expires)
}

// AddCalendarKey makes a key that reads the calendar by its URL, and nothing else. It is good for as long as a key of AddKey may be. Error:
// site.Flaws.
func (a *Access) AddCalendarKey(ctx context.Context, personID int64, label string) (NewKey, error) {
	return a.addPersonKey(ctx, store.ScopeCalendar, personID, label, team.Read, a.now().Add(maxPersonKey))
}

func (a *Access) addPersonKey(ctx context.Context, scope string, personID int64, label string, may team.Right, expires time.Time) (NewKey,
	error) {
	label = strings.TrimSpace(label)
	if err := checkLabel(label); err != nil {
		return NewKey{}, err
	}
	now := a.now()
	if expires.IsZero() {
		expires = now.Add(personKeyLife)
	}
	if !expires.After(now) || expires.After(now.Add(maxPersonKey+time.Hour)) {
		return NewKey{}, site.Flaws{{Field: "expires",
			Detail: fmt.Sprintf("%s is out of range; a key is valid until some time from now to five years ahead",
				expires.Format(time.RFC3339))}}
	}
	k := NewKey{Scope: scope, Label: label, May: may, Created: now, Expires: expires.UTC().Truncate(time.Second),
		Secret: keyPrefix + newSecret()}
	err := a.editor.EditKeys(ctx, "a key was made", func(ctx context.Context, tx *store.Store, touched *Touched) (err error) {
		k.ID, err = tx.AddPersonKey(ctx, Hash(k.Secret), scope, personID, label, may, k.Expires)
		touched.Keys = []int64{k.ID}
		return err
	})
	return k, err
}

// keyPrefix makes a key recognisable, so that one that was published by mistake is found.
const keyPrefix = "inkpost-"

// AddRouterKey makes a key for a router of a link that announces by itself. Error: site.Flaws.
func (a *Access) AddRouterKey(ctx context.Context, linkID int64, label string, mayAnnounce []netip.Prefix) (NewKey, error) {
	label = strings.TrimSpace(label)
	if err := checkLabel(label); err != nil {
		return NewKey{}, err
	}
	if err := CheckPrefixes(mayAnnounce); err != nil {
		return NewKey{}, site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	k := NewKey{Scope: store.ScopeRouter, Label: label, Created: a.now(), MayAnnounce: mayAnnounce, Secret: keyPrefix + newSecret()}
	err := a.editor.EditKeys(ctx, "a router key was made", func(ctx context.Context, tx *store.Store, touched *Touched) (err error) {
		k.ID, err = tx.AddLinkKey(ctx, Hash(k.Secret), linkID, label, mayAnnounce)
		touched.Links = []int64{linkID}
		return err
	})
	return k, err
}

// AllowKey sets the prefixes in which a link's key may announce addresses that are not its connection's own. Errors: site.Flaws,
// store.Missing.
func (a *Access) AllowKey(ctx context.Context, id int64, mayAnnounce []netip.Prefix) error {
	if err := CheckPrefixes(mayAnnounce); err != nil {
		return site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	return a.editKey(ctx, id, "the prefixes that a key may announce were changed", func(ctx context.Context, tx *store.Store) error {
		return tx.AllowKey(ctx, id, fmt.Sprint(id), mayAnnounce)
	})
}

// RevokeKey makes a key useless at once. Error: store.Missing.
func (a *Access) RevokeKey(ctx context.Context, id int64) error {
	return a.editKey(ctx, id, "a key was revoked", func(ctx context.Context, tx *store.Store) error {
		return tx.RevokeKey(ctx, id, fmt.Sprint(id), a.now())
	})
}

// editKey edits a key that is on record.
func (a *Access) editKey(ctx context.Context, id int64, words string, write func(context.Context, *store.Store) error) error {
	return a.editor.EditKeys(ctx, words, func(ctx context.Context, tx *store.Store, touched *Touched) error {
		if k, _ := a.keys.KeyByID(id); k.LinkID != 0 {
			touched.Links = []int64{int64(k.LinkID)} // whether the link has an agent may have changed, too
		} else {
			touched.Keys = []int64{id}
		}
		return write(ctx, tx)
	})
}

// Key finds the key of a secret. Error: ErrKey, with the key if it is only no longer good.
func (a *Access) Key(secret string) (store.Key, error) {
	k, known := a.keys.Key(Hash(secret))
	if !known || !a.good(k) {
		return k, ErrKey
	}
	a.used.note(k.ID, a.now())
	return k, nil
}

func (a *Access) good(k store.Key) bool {
	return k.Revoked.IsZero() && (k.Expires.IsZero() || a.now().Before(k.Expires.Time))
}

// KeyGood reports whether a key is still good for the same, so that a stream that was begun with it can be ended.
func (a *Access) KeyGood(k store.Key) bool {
	now, known := a.keys.Key(k.Hash)
	return known && a.good(now) && now.Role == k.Role && slices.Equal(now.Tags, k.Tags)
}

// Keys lists all keys, newest first, each with its last use. Error: that of the database.
func (a *Access) Keys(ctx context.Context) ([]store.Key, error) {
	list, err := a.store.Keys(ctx)
	for i, k := range list {
		list[i].Used.Time = a.used.of(k.ID, k.Used.Time)
	}
	return list, err
}

// keyUse collects when keys were used, until it is written in bulk.
type keyUse struct {
	mu          sync.Mutex
	last, dirty map[int64]time.Time
}

func (u *keyUse) note(id int64, now time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if now.Sub(u.last[id]) < keyUsePrecision {
		return
	}
	if u.last == nil {
		u.last, u.dirty = map[int64]time.Time{}, map[int64]time.Time{}
	}
	u.last[id], u.dirty[id] = now, now
}

func (u *keyUse) of(id int64, kept time.Time) time.Time {
	u.mu.Lock()
	defer u.mu.Unlock()
	if at := u.last[id]; at.After(kept) {
		return at
	}
	return kept
}

func (u *keyUse) take() map[int64]time.Time {
	u.mu.Lock()
	defer u.mu.Unlock()
	out := u.dirty
	u.dirty = map[int64]time.Time{}
	return out
}

// WriteKeyUse writes which keys were used since the last call. What is lost is written a minute later. Error: that of the database; the
// uses are kept for the next call.
func (a *Access) WriteKeyUse(ctx context.Context) error {
	used := a.used.take()
	if len(used) == 0 {
		return nil
	}
	return a.store.NoteKeyUse(ctx, used)
}
