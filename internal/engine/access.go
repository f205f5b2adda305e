package engine

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Lifetimes of what opens a door.
const (
	SessionLife    = 14 * 24 * time.Hour
	invitationLife = 24 * time.Hour
)

// ErrSignIn reports a name and password that do not fit together; which of the two is wrong is not said.
var ErrSignIn = errors.New("that name and password do not fit together")

// ErrKey reports a key that is unknown or revoked.
var ErrKey = errors.New("this key is not valid: it is unknown or was revoked; ask for another")

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

// EnsureOwner makes the first person where there is none, with a one-time password, and returns it; "" where somebody is
// on record.
func (e *Engine) EnsureOwner(ctx context.Context, name string) (password string, err error) {
	n, err := e.store.People(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	return ResetPassword(ctx, e.store, name)
}

// ResetPassword gives a person a new one-time password and ends their sessions.
func ResetPassword(ctx context.Context, st *store.Store, name string) (password string, err error) {
	password = shortCode(4)
	return password, putPassword(ctx, st, name, password, true)
}

// PasswordWaiting says whether a person has not yet replaced the one-time password.
func (e *Engine) PasswordWaiting(ctx context.Context, name string) (bool, error) {
	p, err := e.store.PersonNamed(ctx, name)
	return p.Once, err
}

func putPassword(ctx context.Context, st *store.Store, name, password string, once bool) error {
	h, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return err
	}
	return st.PutPassword(ctx, name, h, once)
}

// absent is compared against where no such person exists, so that the answer takes as long.
var absent = sync.OnceValue(func() []byte {
	h, _ := bcrypt.GenerateFromPassword([]byte("nobody"), bcrypt.DefaultCost)
	return h
})

// SignIn opens a session and returns its token. Error: ErrSignIn.
func (e *Engine) SignIn(ctx context.Context, in contract.SignIn) (token string, s store.Session, err error) {
	p, err := e.store.PersonNamed(ctx, in.Name)
	var missing store.Missing
	if errors.As(err, &missing) {
		_ = bcrypt.CompareHashAndPassword(absent(), []byte(in.Password))
		return "", s, ErrSignIn
	}
	if err != nil {
		return "", s, err
	}
	if bcrypt.CompareHashAndPassword(p.PasswordHash, []byte(in.Password)) != nil {
		return "", s, ErrSignIn
	}
	return e.openSession(ctx, p)
}

func (e *Engine) openSession(ctx context.Context, p store.Person) (token string, s store.Session, err error) {
	token = secret()
	s = store.Session{PersonID: p.ID, Name: p.Name, Once: p.Once, CSRF: secret(), Expires: e.now().Add(SessionLife)}
	return token, s, e.store.AddSession(ctx, hash(token), p.ID, s.CSRF, e.now(), s.Expires)
}

// Session finds the session of a token. Error: store.Missing.
func (e *Engine) Session(ctx context.Context, token string) (store.Session, error) {
	return e.store.Session(ctx, hash(token), e.now())
}

// SignOut ends a session.
func (e *Engine) SignOut(ctx context.Context, token string) error {
	return e.store.EndSession(ctx, hash(token))
}

// ChoosePassword replaces a person's password, ends all their sessions and opens a new one.
func (e *Engine) ChoosePassword(ctx context.Context, name, password string) (token string, s store.Session, err error) {
	if n := len(password); n < 10 || n > 72 {
		return "", s, site.Flaws{{Field: "password", Detail: fmt.Sprintf("has %d characters; 10 to 72 are allowed", n)}}
	}
	if err := putPassword(ctx, e.store, name, password, false); err != nil {
		return "", s, err
	}
	p, err := e.store.PersonNamed(ctx, name)
	if err != nil {
		return "", s, err
	}
	return e.openSession(ctx, p)
}

// AddKey makes a key for programs of a person.
func (e *Engine) AddKey(ctx context.Context, personID int64, person, label string) (contract.Key, error) {
	if label = strings.TrimSpace(label); label == "" || len(label) > 80 {
		return contract.Key{}, site.Flaws{{Field: "label", Detail: "1 to 80 characters that say where the key is used are needed"}}
	}
	k := contract.Key{Scope: store.ScopePerson, Label: label, Holder: person, Created: e.now(), Secret: "inkpost-" + secret()}
	err := e.change(ctx, "", "a key was made", func() (err error) {
		k.ID, err = e.store.AddPersonKey(ctx, hash(k.Secret), personID, label)
		return err
	})
	return k, err
}

// AddRouterKey makes a key for a router of a link that announces by itself.
func (e *Engine) AddRouterKey(ctx context.Context, code, label, name string) (contract.Key, error) {
	p, l, err := e.link(code, label)
	if err != nil {
		return contract.Key{}, err
	}
	if l.Mode == site.Static {
		return contract.Key{}, site.Flaws{{Field: "link", Detail: fmt.Sprintf("link %s is static: an operator sets its address", l.Label)}}
	}
	if name = strings.TrimSpace(name); name == "" || len(name) > 80 {
		return contract.Key{}, site.Flaws{{Field: "label", Detail: "1 to 80 characters that say where the key is used are needed"}}
	}
	k := contract.Key{Scope: store.ScopeRouter, Label: name, Holder: p.Code + " " + l.Label, Created: e.now(), Secret: "inkpost-" + secret()}
	err = e.change(ctx, p.Code, "a key for the router of link "+l.Label+" was made", func() (err error) {
		k.ID, err = e.store.AddLinkKey(ctx, hash(k.Secret), l.ID, name)
		return err
	})
	return k, err
}

// HostnamesOf gives the hostnames that follow a link.
func (e *Engine) HostnamesOf(linkID int64) map[string]bool {
	out := map[string]bool{}
	p, _, _ := e.record.ofLink(linkID)
	for _, h := range p.hostnames {
		if l, ok := p.followed(h.LinkID); ok && l.ID == linkID {
			out[string(h.Name)] = true
		}
	}
	return out
}

// KeyOf finds the key of a secret. Error: ErrKey. Keys are known by memory, so that announcements cost no query of their
// own; one that another server has made is asked for in the database.
func (e *Engine) KeyOf(ctx context.Context, secret string) (store.Key, error) {
	h := hash(secret)
	k, known := e.record.key(h)
	var err error
	if !known {
		k, err = e.store.KeyByHash(ctx, h)
	}
	var missing store.Missing
	if errors.As(err, &missing) || err == nil && !k.Revoked.IsZero() {
		return k, ErrKey // whose it was is for those who look after the site
	}
	return k, err
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
		out = append(out, contract.Key{ID: k.ID, Scope: k.Scope, Label: k.Label, Holder: holder, Created: k.Created.Time, Revoked: k.Revoked.Time})
	}
	return out, err
}

// RevokeKey makes a key useless at once.
func (e *Engine) RevokeKey(ctx context.Context, id int64) error {
	return e.change(ctx, "", "a key was revoked", func() error { return e.store.RevokeKey(ctx, id, fmt.Sprint(id), e.now()) })
}

// keyLife is how long an agent's key is used before it gets another.
const keyLife = 90 * 24 * time.Hour

// TurnKey has an agent take another key at its next check; the one that it has is revoked when the other is used.
func (e *Engine) TurnKey(ctx context.Context, id int64) error {
	return e.change(ctx, "", "a key is to be replaced", func() error { return e.store.TurnKey(ctx, id, fmt.Sprint(id)) })
}

// TurnDue says whether an agent's key has to be replaced, and revokes the one that it has taken the place of itself.
func (e *Engine) TurnDue(ctx context.Context, k store.Key) (bool, error) {
	if k.Replaces != 0 {
		if err := e.change(ctx, "", "an agent uses its new key", func() error { return e.store.SettleKey(ctx, k.ID, e.now()) }); err != nil {
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
	return next, e.change(ctx, "", "an agent gets a new key", func() error { return e.store.SucceedKey(ctx, k.ID, hash(next), e.now()) })
}

// Invite makes a one-time code with which an agent of a link enrols.
func (e *Engine) Invite(ctx context.Context, code, label string) (contract.Invitation, error) {
	p, l, err := e.link(code, label)
	if err != nil {
		return contract.Invitation{}, err
	}
	if l.Mode == site.Static {
		return contract.Invitation{}, site.Flaws{{Field: "link", Detail: fmt.Sprintf("link %s is static: an operator sets its address, no agent", l.Label)}}
	}
	inv := contract.Invitation{Site: p.Code, Link: l.Label, Code: shortCode(3), Expires: e.now().Add(invitationLife)}
	return inv, e.store.AddEnrolment(ctx, hash(inv.Code), l.ID, inv.Expires)
}

// Enrol gives an agent its key for a one-time code. Error: ErrCode.
func (e *Engine) Enrol(ctx context.Context, in contract.Enrolment) (contract.Enrolled, error) {
	if in.Label = strings.TrimSpace(in.Label); in.Label == "" {
		in.Label = "agent"
	}
	if len(in.Label) > 80 {
		return contract.Enrolled{}, site.Flaws{{Field: "label", Detail: "has more than 80 characters"}}
	}
	key := "inkpost-" + secret()
	var linkID int64
	err := e.change(ctx, "", "an agent enrolled", func() error {
		var err error
		linkID, err = e.store.Enrol(ctx, hash(strings.ToUpper(strings.TrimSpace(in.Code))), hash(key), in.Label, e.now())
		return err
	})
	var missing store.Missing
	if errors.As(err, &missing) {
		return contract.Enrolled{}, ErrCode
	}
	if err != nil {
		return contract.Enrolled{}, err
	}
	e.heard.note(linkID, e.now())
	p, l, _ := e.record.ofLink(linkID)
	return contract.Enrolled{Key: key, Site: p.Code, Link: l.Label, CheckSeconds: e.config.CheckEvery.Seconds()}, nil
}

// CheckEvery is how often agents are asked to check their address.
func (e *Engine) CheckEvery() time.Duration { return e.config.CheckEvery }

// Ping says whether the database answers.
func (e *Engine) Ping(ctx context.Context) error { return e.store.Ping(ctx) }
