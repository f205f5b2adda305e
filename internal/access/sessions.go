package access

import (
	"context"
	"errors"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/store"
)

func (a *Access) openSession(ctx context.Context, p store.Person) (token string, s store.Session, err error) {
	token = newSecret()
	s = store.Session{PersonID: p.ID, Name: p.Name, Once: p.Once, CSRF: newSecret(), Expires: a.now().Add(SessionLife)}
	return token, s, a.store.AddSession(ctx, hash(token), p.ID, s.CSRF, a.now(), s.Expires)
}

// Session finds the session of a token. Error: store.Missing.
func (a *Access) Session(ctx context.Context, token string) (store.Session, error) {
	soon, cancel := context.WithTimeout(ctx, sessionWait)
	defer cancel()
	s, err := a.store.Session(soon, hash(token), a.now())
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
	if key := string(hash(token)); good {
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
	known, ok := v.known[string(hash(token))]
	return known.session, ok && now.Sub(known.at) < recentFor
}

// SignOut ends a session. Error: that of the database.
func (a *Access) SignOut(ctx context.Context, token string) error {
	a.sessions.note(token, store.Session{}, false, a.now())
	return a.store.EndSession(ctx, hash(token))
}
