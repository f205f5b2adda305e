package engine

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Lifetimes of what opens a door.
const (
	SessionLife    = 14 * 24 * time.Hour
	invitationLife = 24 * time.Hour
	onceLife       = 3 * 24 * time.Hour   // of a one-time password
	personKeyLife  = 365 * 24 * time.Hour // of a key of a person who does not say
	personKeyMost  = 5 * personKeyLife
)

// ErrSignIn reports a name and password that do not fit together; which of the two is wrong is not said.
var ErrSignIn = errors.New("that name and password do not fit together")

// ErrKey reports a key that is unknown or revoked.
var ErrKey = errors.New("this key is not valid: it is unknown, was revoked or has expired; ask for another")

// ErrCode reports an enrolment code that cannot be used.
var ErrCode = errors.New("this code is not valid: it is mistyped, used already or older than a day; ask for another with inkpost agent invite")

// codeAlphabet has no letters that are read as digits.
const codeAlphabet = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"

func secret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	return base64.RawURLEncoding.EncodeToString(b)
}

// shortCode makes groups of four characters that a person can read out, 4.9 bits each.
func shortCode(groups int) string {
	b := make([]byte, 4*groups)
	_, _ = rand.Read(b)
	var out strings.Builder
	for i, c := range b {
		if i > 0 && i%4 == 0 {
			out.WriteByte('-')
		}
		out.WriteByte(codeAlphabet[int(c)%len(codeAlphabet)])
	}
	return out.String()
}

// hash is how secrets that we made, and that nobody can guess, are kept.
func hash(s string) []byte {
	sum := sha256.Sum256([]byte(s))
	return sum[:]
}

// checkLabel checks what a key is called.
func checkLabel(label string) error {
	if n := utf8.RuneCountInString(label); n < 1 || n > 80 || !printable(label) {
		return site.Flaws{{Field: "label", Detail: "1 to 80 printable characters that say where the key is used are needed"}}
	}
	return nil
}

// checkPrefixes checks where a key is allowed to announce.
func checkPrefixes(list []netip.Prefix) error {
	if len(list) > 32 {
		return fmt.Errorf("has %d prefixes; 32 are allowed", len(list))
	}
	for _, p := range list {
		if !p.IsValid() || p != p.Masked() {
			return fmt.Errorf("%s is no prefix; write one such as 198.51.100.0/24", p)
		}
	}
	return nil
}

// AddKey makes a key for programs of a person. It is good for a year where the input does not say how long.
func (e *Engine) AddKey(ctx context.Context, personID int64, person string, in contract.KeyInput) (contract.Key, error) {
	label := strings.TrimSpace(in.Label)
	life := time.Duration(in.Days) * 24 * time.Hour
	if in.Days == 0 {
		life = personKeyLife
	}
	if err := checkLabel(label); err != nil {
		return contract.Key{}, err
	}
	if in.Days < 0 || in.Days > int(personKeyMost/(24*time.Hour)) {
		return contract.Key{}, site.Flaws{{Field: "days", Detail: fmt.Sprintf("%d is out of range; 1 to %d days are allowed", in.Days, int(personKeyMost/(24*time.Hour)))}}
	}
	k := contract.Key{Scope: store.ScopePerson, Label: label, Holder: person, Created: e.now(), Expires: e.now().Add(life), Secret: "inkpost-" + secret()}
	err := e.change(ctx, func() (edit, error) {
		touched := &record.Touched{}
		return edit{words: "a key was made", touched: touched, write: func(ctx context.Context, tx *store.Store) (err error) {
			k.ID, err = tx.AddPersonKey(ctx, hash(k.Secret), personID, label, k.Expires)
			touched.Keys = []int64{k.ID}
			return err
		}}, nil
	})
	return k, err
}

// AllowKey sets the prefixes in which a key of a link may announce addresses that are not its connection's own.
func (e *Engine) AllowKey(ctx context.Context, id int64, mayAnnounce []netip.Prefix) error {
	if err := checkPrefixes(mayAnnounce); err != nil {
		return site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	return e.change(ctx, func() (edit, error) {
		return edit{words: "what a key may announce was changed", touched: e.touchedKey(id), write: func(ctx context.Context, tx *store.Store) error {
			return tx.AllowKey(ctx, id, fmt.Sprint(id), mayAnnounce)
		}}, nil
	})
}

// AllowSigningKey sets the prefixes in which updates with a TSIG key may set addresses that are not their sender's.
func (e *Engine) AllowSigningKey(ctx context.Context, name string, mayAnnounce []netip.Prefix) error {
	if err := checkPrefixes(mayAnnounce); err != nil {
		return site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	return e.change(ctx, func() (edit, error) {
		return edit{words: "what signing key " + name + " may announce was changed", touched: &record.Touched{Signing: []string{canonical(name)}}, write: func(ctx context.Context, tx *store.Store) error {
			return tx.AllowSigningKey(ctx, canonical(name), mayAnnounce)
		}}, nil
	})
}

// AddRouterKey makes a key for a router of a link that announces by itself.
func (e *Engine) AddRouterKey(ctx context.Context, code, label string, in contract.KeyInput) (contract.Key, error) {
	name := strings.TrimSpace(in.Label)
	p, l, err := e.link(code, label)
	if err != nil {
		return contract.Key{}, err
	}
	if l.Mode == site.Static {
		return contract.Key{}, site.Flaws{{Field: "link", Detail: fmt.Sprintf("link %s is static: an operator sets its address", l.Label)}}
	}
	if err := checkLabel(name); err != nil {
		return contract.Key{}, err
	}
	if err := checkPrefixes(in.MayAnnounce); err != nil {
		return contract.Key{}, site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	k := contract.Key{Scope: store.ScopeRouter, Label: name, Holder: p.Code + " " + l.Label, Created: e.now(), MayAnnounce: in.MayAnnounce, Secret: "inkpost-" + secret()}
	err = e.change(ctx, func() (edit, error) {
		return edit{site: p.Code, words: "a key for the router of link " + l.Label + " was made", write: func(ctx context.Context, tx *store.Store) (err error) {
			k.ID, err = tx.AddLinkKey(ctx, hash(k.Secret), l.ID, name, in.MayAnnounce)
			return err
		}}, nil
	})
	return k, err
}

// HostnamesOf gives the hostnames that follow a link.
func (e *Engine) HostnamesOf(linkID int64) map[string]bool {
	out := map[string]bool{}
	p, _, _ := e.record.SiteOfLink(linkID)
	for _, h := range p.Hostnames {
		if l, ok := p.Followed(h.LinkID); ok && l.ID == linkID {
			out[string(h.Name)] = true
		}
	}
	return out
}

// KeyOf finds the key of a secret. Error: ErrKey. Keys are known by memory, so that neither announcements nor strangers who guess
// cost a query.
func (e *Engine) KeyOf(secret string) (store.Key, error) {
	k, known := e.record.Key(hash(secret))
	if !known || !e.good(k) {
		return k, ErrKey // whose it was is for those who look after the site
	}
	e.used.note(k.ID, e.now())
	return k, nil
}

func (e *Engine) good(k store.Key) bool {
	return k.Revoked.IsZero() && (k.Expires.IsZero() || e.now().Before(k.Expires.Time))
}

// KeyGood reports whether a key is still good, so that what was begun with it can be ended.
func (e *Engine) KeyGood(k store.Key) bool {
	now, known := e.record.Key(k.Hash)
	return known && e.good(now)
}

// keyUse collects when keys were used, until it is written in bulk.
type keyUse struct {
	mu          sync.Mutex
	last, dirty map[int64]time.Time
}

// usedEvery is how fine the last use of a key is kept.
const usedEvery = time.Minute

func (u *keyUse) note(id int64, now time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if now.Sub(u.last[id]) < usedEvery {
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

// writeKeyUse keeps which keys were used since it was called last. What is lost is told a minute later.
func (e *Engine) writeKeyUse(ctx context.Context) error {
	used := e.used.take()
	if len(used) == 0 {
		return nil
	}
	return e.store.NoteKeyUse(ctx, used)
}

// Keys lists all keys.
func (e *Engine) Keys(ctx context.Context) ([]contract.Key, error) {
	list, err := e.store.Keys(ctx)
	out := make([]contract.Key, 0, len(list))
	for _, k := range list {
		holder := k.Site + " " + k.Link
		switch k.Scope {
		case store.ScopePerson:
			holder = k.Person
		case store.ScopeVantage:
			holder = "vantage point " + k.Vantage
		}
		out = append(out, contract.Key{ID: k.ID, Scope: k.Scope, Label: k.Label, Holder: holder, Created: k.Created.Time, Revoked: k.Revoked.Time,
			Expires: k.Expires.Time, Used: e.used.of(k.ID, k.Used.Time), MayAnnounce: k.MayAnnounce})
	}
	return out, err
}

// RevokeKey makes a key useless at once.
func (e *Engine) RevokeKey(ctx context.Context, id int64) error {
	return e.change(ctx, func() (edit, error) {
		return edit{words: "a key was revoked", touched: e.touchedKey(id), write: func(ctx context.Context, tx *store.Store) error {
			return tx.RevokeKey(ctx, id, fmt.Sprint(id), e.now())
		}}, nil
	})
}

// touchedKey is what an edit of an access key touches: a link's key changes whether its site has an agent.
func (e *Engine) touchedKey(id int64) *record.Touched {
	k, _ := e.record.KeyByID(id)
	if p, _, ok := e.record.SiteOfLink(int64(k.LinkID)); ok {
		return &record.Touched{Sites: []int64{p.ID}}
	}
	return &record.Touched{Keys: []int64{id}}
}

// keyLife is how long an agent's key is used before it gets another.
const keyLife = 90 * 24 * time.Hour

// TurnKey has an agent take another key at its next check; the one that it has is revoked when the other is used.
func (e *Engine) TurnKey(ctx context.Context, id int64) error {
	return e.change(ctx, func() (edit, error) {
		return edit{words: "a key is to be replaced", touched: e.touchedKey(id), write: func(ctx context.Context, tx *store.Store) error { return tx.TurnKey(ctx, id, fmt.Sprint(id)) }}, nil
	})
}

// TurnDue reports whether an agent's key has to be replaced, and revokes the one that it has taken the place of itself.
func (e *Engine) TurnDue(ctx context.Context, k store.Key) (bool, error) {
	if k.Replaces != 0 {
		if err := e.change(ctx, func() (edit, error) {
			return edit{words: "an agent uses its new key", touched: e.touchedKey(k.ID), write: func(ctx context.Context, tx *store.Store) error { return tx.SettleKey(ctx, k.ID, e.now()) }}, nil
		}); err != nil {
			return false, err
		}
	}
	return k.Turn || e.now().Sub(k.Created.Time) > keyLife, nil
}

// NextKey gives an agent the key that takes the place of the one that it has. That one stays good until the new one is used.
func (e *Engine) NextKey(ctx context.Context, k store.Key) (string, error) {
	if due, err := e.TurnDue(ctx, k); err != nil || !due {
		return "", errors.Join(err, site.Flaws{{Field: "key", Detail: "this key is not due to be replaced; an operator asks for that: inkpost key turn KEY"}})
	}
	next := "inkpost-" + secret()
	return next, e.change(ctx, func() (edit, error) {
		return edit{words: "an agent gets a new key", touched: e.touchedKey(k.ID), write: func(ctx context.Context, tx *store.Store) error {
			return tx.SucceedKey(ctx, k.ID, hash(next), e.now())
		}}, nil
	})
}

// Invite makes a one-time code with which an agent of a link enrols.
func (e *Engine) Invite(ctx context.Context, code, label string, in contract.InvitationInput) (contract.Invitation, error) {
	if err := checkPrefixes(in.MayAnnounce); err != nil {
		return contract.Invitation{}, site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	p, l, err := e.link(code, label)
	if err != nil {
		return contract.Invitation{}, err
	}
	if l.Mode == site.Static {
		return contract.Invitation{}, site.Flaws{{Field: "link", Detail: fmt.Sprintf("link %s is static: an operator sets its address, no agent", l.Label)}}
	}
	inv := contract.Invitation{Site: p.Code, Link: l.Label, Code: shortCode(3), Expires: e.now().Add(invitationLife)}
	return inv, e.store.Together(ctx, func(tx *store.Store) error {
		return tx.AddEnrolment(ctx, hash(inv.Code), l.ID, inv.Expires, in.MayAnnounce)
	})
}

// Enrol gives an agent its key for a one-time code. Error: ErrCode.
func (e *Engine) Enrol(ctx context.Context, in contract.Enrolment) (contract.Enrolled, error) {
	if in.Label = strings.TrimSpace(in.Label); in.Label == "" {
		in.Label = "agent"
	}
	if err := checkLabel(in.Label); err != nil {
		return contract.Enrolled{}, err
	}
	key := "inkpost-" + secret()
	var linkID int64
	err := e.change(ctx, func() (edit, error) {
		touched := &record.Touched{}
		return edit{words: "an agent enrolled", touched: touched, write: func(ctx context.Context, tx *store.Store) (err error) {
			linkID, err = tx.Enrol(ctx, hash(strings.ToUpper(strings.TrimSpace(in.Code))), hash(key), in.Label, e.now())
			p, _, _ := e.record.SiteOfLink(linkID)
			touched.Sites = []int64{p.ID}
			return err
		}}, nil
	})
	var missing store.Missing
	if errors.As(err, &missing) {
		return contract.Enrolled{}, ErrCode
	}
	if err != nil {
		return contract.Enrolled{}, err
	}
	e.heard.note(linkID, e.now())
	p, l, _ := e.record.SiteOfLink(linkID)
	return contract.Enrolled{Key: key, Site: p.Code, Link: l.Label, CheckSeconds: e.config.CheckEvery.Seconds()}, nil
}

// CheckEvery is how often agents are asked to check their address.
func (e *Engine) CheckEvery() time.Duration { return e.config.CheckEvery }

// Ping reports whether the database answers.
func (e *Engine) Ping(ctx context.Context) error { return e.store.Ping(ctx) }
