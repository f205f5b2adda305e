package access

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

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// ErrSignIn reports a wrong name or password; which of the two is not said.
var ErrSignIn = errors.New("wrong name or password")

// EnsureOwner makes the first person when there is none and returns the one-time password; "" when somebody is on record. Error: that of
// the database.
func (a *Access) EnsureOwner(ctx context.Context, name string) (password string, err error) {
	n, err := a.store.People(ctx)
	if err != nil || n > 0 || !a.store.Leads() {
		return "", err
	}
	return ResetPassword(ctx, a.store, name, a.now(), true)
}

// ResetPassword returns a person a new one-time password, which is good for three days from now, and ends their sessions. A person who is
// not on record is created if create is set. Error: store.Missing.
func ResetPassword(ctx context.Context, st *store.Store, name string, now time.Time, create bool) (password string, err error) {
	if err := checkPersonName(name); err != nil {
		return "", err
	}
	password = newCode(4)
	h, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return "", err
	}
	return password, st.PutPassword(ctx, name, h, now.Add(oneTimeLife), create)
}

// checkPersonName checks the name that somebody signs in with.
func checkPersonName(name string) error {
	if n := utf8.RuneCountInString(name); n < 1 || n > 80 || strings.TrimSpace(name) != name || !printable(name) {
		return site.Flaws{{Field: "name", Detail: "must be 1 to 80 printable characters without spaces at either end"}}
	}
	return nil
}

func printable(s string) bool {
	return utf8.ValidString(s) && strings.IndexFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) < 0
}

// PasswordWaiting reports whether a person has not yet replaced the one-time password. Error: that of the database.
func (a *Access) PasswordWaiting(ctx context.Context, name string) (bool, error) {
	p, err := a.store.PersonNamed(ctx, name)
	return p.Once, err
}

// absent is compared against when no such person exists, so that the answer takes as long.
var absent = sync.OnceValue(func() []byte {
	h, _ := bcrypt.GenerateFromPassword([]byte("nobody"), bcrypt.DefaultCost)
	return h
})

// SignIn opens a session and returns its token. Errors: ErrSignIn, access.TooMany, access.ErrHashing.
func (a *Access) SignIn(ctx context.Context, name, password string, from netip.Addr) (token string, s store.Session, err error) {
	now := a.now()
	if checkPersonName(name) != nil || len(password) > 200 { // nobody can have that name
		a.signInFailed("", from)
		return "", s, ErrSignIn
	}
	if err := a.tries.Allowed(name, from, now); err != nil {
		return "", s, err
	}
	p, err := a.store.PersonNamed(ctx, name)
	var missing store.Missing
	absentee := errors.As(err, &missing)
	if err != nil && !absentee {
		return "", s, err
	}
	kept, right := p.PasswordHash, false
	if absentee {
		kept = absent()
	}
	if err := a.hasher.Do(ctx, func() { right = bcrypt.CompareHashAndPassword(kept, []byte(password)) == nil }); err != nil {
		return "", s, err
	}
	if !right || absentee || p.Once && now.After(p.Until.Time) {
		a.signInFailed(name, from)
		return "", s, ErrSignIn
	}
	a.tries.Passed(name)
	return a.openSession(ctx, p)
}

// signInFailed counts a failed try, and writes it to the log.
func (a *Access) signInFailed(name string, from netip.Addr) {
	a.tries.Failed(name, from, a.now())
	a.log.Warn("sign-in failed", "name", name, "from", from)
}

// FailedSignIns is how many tries to sign in have failed since the server started.
func (a *Access) FailedSignIns() uint64 { return a.tries.Total() }

// ChoosePassword replaces a person's password, ends all their sessions and opens a new one. Errors: site.Flaws, ErrHashing, that of the
// database.
func (a *Access) ChoosePassword(ctx context.Context, name, password string) (token string, s store.Session, err error) {
	if n := len(password); n < 10 || n > 72 {
		return "", s, site.Flaws{{Field: "password", Detail: fmt.Sprintf("has %d octets; 10 to 72 are allowed", n)}}
	}
	var h []byte
	if err := a.hasher.Do(ctx, func() { h, err = bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost) }); err != nil {
		return "", s, err
	}
	if err != nil {
		return "", s, err
	}
	if err := a.store.PutPassword(ctx, name, h, time.Time{}, false); err != nil {
		return "", s, err
	}
	a.sessions.forget()
	p, err := a.store.PersonNamed(ctx, name)
	if err != nil {
		return "", s, err
	}
	return a.openSession(ctx, p)
}
