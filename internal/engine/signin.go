package engine

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/crypto/bcrypt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// EnsureOwner makes the first person where there is none, with a one-time password, and returns it; "" where somebody is
// on record.
func (e *Engine) EnsureOwner(ctx context.Context, name string) (password string, err error) {
	n, err := e.store.People(ctx)
	if err != nil || n > 0 || e.lost() {
		return "", err
	}
	return ResetPassword(ctx, e.store, name, e.now(), true)
}

// ResetPassword gives a person a new one-time password, which is good for three days from now, and ends their sessions. A person
// who is not on record is made where create says so. Error: store.Missing.
func ResetPassword(ctx context.Context, st *store.Store, name string, now time.Time, create bool) (password string, err error) {
	if err := checkPersonName(name); err != nil {
		return "", err
	}
	password = shortCode(4)
	h, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return "", err
	}
	return password, st.PutPassword(ctx, name, h, now.Add(onceLife), create)
}

// checkPersonName checks the name that somebody signs in with.
func checkPersonName(name string) error {
	if n := utf8.RuneCountInString(name); n < 1 || n > 80 || strings.TrimSpace(name) != name || !printable(name) {
		return site.Flaws{{Field: "name", Detail: "1 to 80 printable characters without spaces around them are needed"}}
	}
	return nil
}

func printable(s string) bool {
	return utf8.ValidString(s) && strings.IndexFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) < 0
}

// PasswordWaiting reports whether a person has not yet replaced the one-time password.
func (e *Engine) PasswordWaiting(ctx context.Context, name string) (bool, error) {
	p, err := e.store.PersonNamed(ctx, name)
	return p.Once, err
}

// absent is compared against where no such person exists, so that the answer takes as long.
var absent = sync.OnceValue(func() []byte {
	h, _ := bcrypt.GenerateFromPassword([]byte("nobody"), bcrypt.DefaultCost)
	return h
})

// SignIn opens a session and returns its token. Errors: ErrSignIn, access.TooMany, access.ErrHashing.
func (e *Engine) SignIn(ctx context.Context, in contract.SignIn, from netip.Addr) (token string, s store.Session, err error) {
	now := e.now()
	if checkPersonName(in.Name) != nil || len(in.Password) > 200 { // nobody is called that; nobody has to be asked for
		e.signInFailed("", from)
		return "", s, ErrSignIn
	}
	if err := e.tries.Allowed(in.Name, from, now); err != nil {
		return "", s, err
	}
	p, err := e.store.PersonNamed(ctx, in.Name)
	var missing store.Missing
	absentee := errors.As(err, &missing)
	if err != nil && !absentee {
		return "", s, err
	}
	kept, right := p.PasswordHash, false
	if absentee {
		kept = absent()
	}
	if err := e.hasher.Do(ctx, func() { right = bcrypt.CompareHashAndPassword(kept, []byte(in.Password)) == nil }); err != nil {
		return "", s, err
	}
	if !right || absentee || p.Once && now.After(p.Until.Time) {
		e.signInFailed(in.Name, from)
		return "", s, ErrSignIn
	}
	e.tries.Passed(in.Name)
	return e.openSession(ctx, p)
}

// signInFailed counts a failed try, and writes it to the log.
func (e *Engine) signInFailed(name string, from netip.Addr) {
	e.tries.Failed(name, from, e.now())
	e.log.Warn("somebody could not sign in", "name", name, "from", from)
}

// FailedSignIns is how many tries to sign in have failed since the server started.
func (e *Engine) FailedSignIns() uint64 { return e.tries.Total() }

func (e *Engine) openSession(ctx context.Context, p store.Person) (token string, s store.Session, err error) {
	token = secret()
	s = store.Session{PersonID: p.ID, Name: p.Name, Once: p.Once, CSRF: secret(), Expires: e.now().Add(SessionLife)}
	return token, s, e.store.AddSession(ctx, hash(token), p.ID, s.CSRF, e.now(), s.Expires)
}

// Session finds the session of a token. Error: store.Missing.
func (e *Engine) Session(ctx context.Context, token string) (store.Session, error) {
	soon, cancel := context.WithTimeout(ctx, sessionWait)
	defer cancel()
	s, err := e.store.Session(soon, hash(token), e.now())
	var missing store.Missing
	if err != nil && !errors.As(err, &missing) {
		if known, ok := e.visits.of(token, e.now()); ok {
			return known, nil
		}
	}
	e.visits.note(token, s, err == nil, e.now())
	return s, err
}

// A session that was good a moment ago is good enough to read with while the database does not answer: nothing is changed then anyway.
const (
	sessionWait = time.Second
	visitFor    = 10 * time.Minute
	visitsMost  = 1000
)

// visits are the sessions that were good lately.
type visits struct {
	mu    sync.Mutex
	known map[string]visit // by the token's hash
}

type visit struct {
	session store.Session
	at      time.Time
}

func (v *visits) note(token string, s store.Session, good bool, now time.Time) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.known == nil || len(v.known) >= visitsMost {
		v.known = map[string]visit{}
	}
	if key := string(hash(token)); good {
		v.known[key] = visit{s, now}
	} else {
		delete(v.known, key)
	}
}

// forget drops all of them, as a password was replaced.
func (v *visits) forget() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.known = nil
}

func (v *visits) of(token string, now time.Time) (store.Session, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	known, ok := v.known[string(hash(token))]
	return known.session, ok && now.Sub(known.at) < visitFor
}

// SignOut ends a session.
func (e *Engine) SignOut(ctx context.Context, token string) error {
	e.visits.note(token, store.Session{}, false, e.now())
	return e.store.EndSession(ctx, hash(token))
}

// ChoosePassword replaces a person's password, ends all their sessions and opens a new one.
func (e *Engine) ChoosePassword(ctx context.Context, name, password string) (token string, s store.Session, err error) {
	if n := len(password); n < 10 || n > 72 {
		return "", s, site.Flaws{{Field: "password", Detail: fmt.Sprintf("has %d characters; 10 to 72 are allowed", n)}}
	}
	var h []byte
	if err := e.hasher.Do(ctx, func() { h, err = bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost) }); err != nil {
		return "", s, err
	}
	if err != nil {
		return "", s, err
	}
	if err := e.store.PutPassword(ctx, name, h, time.Time{}, false); err != nil {
		return "", s, err
	}
	e.visits.forget()
	p, err := e.store.PersonNamed(ctx, name)
	if err != nil {
		return "", s, err
	}
	return e.openSession(ctx, p)
}
