package access

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"inkpost.example/inkpost/internal/access/passwords"
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
	h, err := passwords.Hash(password)
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

// Visitor is who signs in: from where, and with what.
type Visitor struct {
	From    netip.Addr
	Program string // as it calls itself
}

// SignIn opens a session and returns its token. code is that of an authenticator, or a recovery code, for who has one. Errors: ErrSignIn,
// SecondNeeded, TooMany, ErrHashing.
func (a *Access) SignIn(ctx context.Context, name, password, code string, by Visitor) (token string, s store.Session, err error) {
	now := a.now()
	if checkPersonName(name) != nil || len(password) > passwords.Most { // nobody can have that name
		a.signInFailed("", by.From)
		return "", s, ErrSignIn
	}
	if err := a.tries.Allowed(name, by.From, now); err != nil {
		return "", s, err
	}
	p, err := a.store.PersonNamed(ctx, name)
	var missing store.Missing
	absentee := errors.As(err, &missing)
	if err != nil && !absentee {
		return "", s, err
	}
	kept := p.PasswordHash
	if absentee || len(kept) == 0 { // somebody who signs in at a provider has none here
		kept = passwords.Absent()
	}
	right, stale, err := a.compare(ctx, kept, password)
	if err != nil {
		return "", s, err
	}
	if !right || absentee || len(p.PasswordHash) == 0 || p.Once && now.After(p.Until.Time) {
		a.signInFailed(name, by.From)
		return "", s, ErrSignIn
	}
	if err := a.second(ctx, p, code); err != nil {
		if errors.Is(err, ErrSignIn) {
			a.signInFailed(name, by.From)
		}
		return "", s, err
	}
	a.tries.Passed(name)
	if stale { // it is kept as passwords are kept now; that it is could not be done by anybody but who has it
		if err := a.keepAnew(ctx, p, password); err != nil {
			a.log.Warn("a password could not be kept anew", "name", name, "error", err)
		}
	}
	return a.openSession(ctx, p, by)
}

// keepAnew keeps the password of somebody who has just shown it in the way of today, unless it was changed meanwhile.
func (a *Access) keepAnew(ctx context.Context, p store.Person, password string) error {
	var kept []byte
	var failed error
	if err := a.hasher.Do(ctx, func() { kept, failed = passwords.Hash(password) }); err != nil || failed != nil {
		return errors.Join(err, failed)
	}
	return a.store.KeepAnew(ctx, p.ID, p.PasswordHash, kept)
}

// signInFailed counts a failed try, and writes it to the log.
func (a *Access) signInFailed(name string, from netip.Addr) {
	a.tries.Failed(name, from, a.now())
	a.log.Warn("sign-in failed", "name", name, "from", from)
}

// FailedSignIns is how many tries to sign in have failed since the server started.
func (a *Access) FailedSignIns() uint64 { return a.tries.Total() }

// SessionsOpened is how many sessions were opened since the server started.
func (a *Access) SessionsOpened() uint64 { return a.opened.Load() }

// Choice is a password that somebody chose in the place of their old one. EndKeys makes their keys useless as well.
type Choice struct {
	Old, Password string
	EndKeys       bool
}

// ErrOldPassword reports that the password that is to be replaced was not given.
var ErrOldPassword = site.Flaws{{Field: "old", Detail: "is not the password that you have now"}}

// ChoosePassword replaces a person's password, ends all their sessions and opens a new one. Somebody who signed in with a one-time password
// has just given it. Errors: site.Flaws, TooMany, ErrHashing, that of the database.
func (a *Access) ChoosePassword(ctx context.Context, name string, c Choice, by Visitor) (token string, s store.Session, err error) {
	p, err := a.store.PersonNamed(ctx, name)
	if err != nil {
		return "", s, err
	}
	if !p.Once {
		if err := a.confirm(ctx, p, c.Old, by.From); err != nil {
			return "", s, err
		}
	}
	h, err := a.keepPassword(ctx, name, c.Password)
	if err != nil {
		return "", s, err
	}
	if err := a.store.PutPassword(ctx, name, h, time.Time{}, false); err != nil {
		return "", s, err
	}
	a.sessions.forget()
	if c.EndKeys {
		if err := a.endKeys(ctx, name); err != nil {
			return "", s, err
		}
	}
	if p, err = a.store.PersonNamed(ctx, name); err != nil {
		return "", s, err
	}
	return a.openSession(ctx, p, by)
}

// confirm has somebody who is signed in show their password: what follows is more than a session that was left open may do. Errors:
// ErrOldPassword, TooMany, ErrHashing.
func (a *Access) confirm(ctx context.Context, p store.Person, password string, from netip.Addr) error {
	if err := a.tries.Allowed(p.Name, from, a.now()); err != nil {
		return err
	}
	right, _, err := a.compare(ctx, p.PasswordHash, password)
	if err != nil {
		return err
	}
	if !right {
		a.signInFailed(p.Name, from)
		return ErrOldPassword
	}
	a.tries.Passed(p.Name)
	return nil
}

func (a *Access) endKeys(ctx context.Context, name string) error {
	return a.editor.EditKeys(ctx, "somebody's keys were revoked", func(ctx context.Context, tx *store.Store, touched *Touched) (err error) {
		if touched.Keys, err = tx.PersonKeys(ctx, name); err != nil {
			return err
		}
		return tx.RevokePersonKeys(ctx, name, a.now())
	})
}
