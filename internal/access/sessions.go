package access

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/store"
)

func (a *Access) openSession(ctx context.Context, p store.Person, by Visitor) (token string, s store.Session, err error) {
	return a.open(ctx, p, by, false)
}

// open opens a session; elsewhere says that it is by a provider's word, which asks for second factors by itself.
func (a *Access) open(ctx context.Context, p store.Person, by Visitor, elsewhere bool) (token string, s store.Session, err error) {
	token = newSecret()
	s = store.Session{PersonID: p.ID, Name: p.Name, Once: p.Once, CSRF: newSecret(), Expires: a.now().Add(SessionLife), Rights: p.Rights,
		Program: string([]rune(strings.ToValidUTF8(by.Program, ""))[:min(len([]rune(by.Program)), maxProgram)])}
	s.From(by.From)
	if s.Elsewhere = elsewhere; !elsewhere {
		if s.Bare, err = a.bare(ctx, p); err != nil {
			return "", s, err
		}
	}
	if s.ID, err = a.store.AddSession(ctx, Hash(token), s, a.now()); err == nil {
		a.opened.Add(1)
	}
	return token, s, err
}

// bare reports whether somebody lacks a second factor that they have to have.
func (a *Access) bare(ctx context.Context, p store.Person) (bool, error) {
	required, err := a.secondRequired(ctx, p.Rights)
	if err != nil || !required {
		return false, err
	}
	has, err := a.store.SecondOf(ctx, p.ID)
	return !has.Has(), err
}

func (a *Access) secondRequired(ctx context.Context, r store.Rights) (bool, error) {
	if r.Role != team.Owner {
		return false, nil
	}
	return a.store.OwnersNeedSecond(ctx)
}

// maxProgram is how many characters of what a browser calls itself are kept.
const maxProgram = 200

// Sessions lists the sessions of a person, the one that was used last first. Error: that of the database.
func (a *Access) Sessions(ctx context.Context, personID int64) ([]store.Session, error) {
	return a.store.Sessions(ctx, personID, a.now())
}

// SessionGood reports whether a session is still good for the same. While the database does not answer, it is.
func (a *Access) SessionGood(ctx context.Context, s store.Session) bool {
	now, err := a.store.SessionByID(ctx, s.ID, a.now())
	var missing store.Missing
	return err == nil && now.Role == s.Role && slices.Equal(now.Tags, s.Tags) || err != nil && !errors.As(err, &missing)
}

// EndSession ends one session of a person. Errors: store.Missing, that of the database.
func (a *Access) EndSession(ctx context.Context, personID, id int64) error {
	a.sessions.forget()
	return a.store.EndSessionOf(ctx, personID, id)
}

// seeingWait is how long the note of a session's use may take.
const seeingWait = 300 * time.Millisecond

// seenEvery is how precisely the last use of a session is kept.
const seenEvery = time.Minute

// SeeSession notes that a session is used from somewhere. What cannot be written is written at the next use.
func (a *Access) SeeSession(ctx context.Context, s store.Session, from netip.Addr) {
	if now := a.now(); now.Sub(s.Seen.Time) >= seenEvery || from != s.Address.Addr {
		ctx, cancel := context.WithTimeout(ctx, seeingWait) // a database that hangs holds no reader up
		defer cancel()
		if err := a.store.SeeSession(ctx, s.ID, from, now); err != nil {
			a.log.Debug("the use of a session is not noted", "error", err)
		}
	}
}

// Session finds the session of a token. Error: store.Missing.
func (a *Access) Session(ctx context.Context, token string) (store.Session, error) {
	soon, cancel := context.WithTimeout(ctx, sessionWait)
	defer cancel()
	s, err := a.store.Session(soon, Hash(token), a.now())
	var missing store.Missing
	if err != nil && !errors.As(err, &missing) {
		if known, ok := a.sessions.of(token, a.now()); ok {
			return known, nil
		}
	}
	a.sessions.note(token, s, err == nil, a.now())
	return s, err
}

// A session that was good a moment ago is good enough to read with while the database does not answer: nothing is changed then anyway.
const (
	sessionWait = time.Second
	recentFor   = 10 * time.Minute
	maxRecent   = 1000
)

// recentSessions are the sessions that were good lately.
type recentSessions struct {
	mu    sync.Mutex
	known map[string]recentSession // by the token's hash
}

type recentSession struct {
	session store.Session
	at      time.Time
}

func (v *recentSessions) note(token string, s store.Session, good bool, now time.Time) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.known == nil || len(v.known) >= maxRecent {
		v.known = map[string]recentSession{}
	}
	if key := string(Hash(token)); good {
		v.known[key] = recentSession{s, now}
	} else {
		delete(v.known, key)
	}
}

// forget drops all of them, as a password was replaced.
func (v *recentSessions) forget() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.known = nil
}

func (v *recentSessions) of(token string, now time.Time) (store.Session, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	known, ok := v.known[string(Hash(token))]
	return known.session, ok && now.Sub(known.at) < recentFor
}

// SignOut ends a session. Error: that of the database.
func (a *Access) SignOut(ctx context.Context, token string) error {
	a.sessions.note(token, store.Session{}, false, a.now())
	return a.store.EndSession(ctx, Hash(token))
}
