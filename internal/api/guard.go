package api

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/relay"
)

const (
	cookieName   = "inkpost_session"
	intentHeader = "X-Inkpost-Intent"
)

// principal is who makes a request.
type principal struct {
	key      store.Key
	personID int64
	name     string
	scope    string // of the key; empty for a session
	linkID   int64  // of an agent
	vantage  int64  // ID of a vantage point
	session  *store.Session
	role     team.Role
	sight    team.Sight
}

// may reports whether a person may do something, with the key that they use.
func (p principal) may(right team.Right) bool {
	return p.role.May(right) && (p.key.ID == 0 || team.KeyMay(p.key.May, right))
}

// allowed checks that a person may make a call. What they do not see is not there for them. Errors: failure, store.Missing.
func (a *api) allowed(c *echo.Context, r route, p principal) (context.Context, error) {
	of, ctx := r.rule(), rooms.WithSight(c.Request().Context(), p.sight)
	switch {
	case !p.role.May(of.need):
		return ctx, problemOf(http.StatusForbidden, "not-your-part", fmt.Sprintf("%s is a %s, who may not %s; ask an owner", p.name, p.role,
			of.need))
	case !p.may(of.need):
		return ctx, problemOf(http.StatusForbidden, "key-too-weak",
			fmt.Sprintf("this key was made to %s, and this takes one to %s; make another",
				p.key.May, of.need))
	case of.reach == everything && !p.sight.All():
		return ctx, problemOf(http.StatusForbidden, "not-your-part", "this concerns all sites, and "+p.name+" sees "+p.sight.Words())
	}
	if of.reach == oneSite {
		if _, err := a.engine().SiteSeen(ctx, c.Param("code")); err != nil {
			return ctx, err
		}
	}
	return ctx, nil
}

var (
	errNobody = problemOf(http.StatusUnauthorized, "sign-in-needed", "sign in, or send a key as: Authorization: Bearer KEY")
	errIntent = problemOf(http.StatusForbidden, "intent-missing",
		"a change made from a browser needs the session's value in the "+intentHeader+" header")
	errOnce     = problemOf(http.StatusForbidden, "choose-password", "replace the one-time password first: PUT "+base+"/session/password")
	errNotYours = problemOf(http.StatusForbidden, "wrong-key",
		"this key's scope does not allow this request: an agent's key announces, a vantage point's returns outcomes, a person's "+
			"does the rest")
	errStarting = problemOf(http.StatusServiceUnavailable, "starting",
		"the database has not answered since this server started: names are answered from the copy on disk; everything else has to wait")
	errTooMany = problemOf(http.StatusTooManyRequests, "too-many", "too many tries from your address; wait a few seconds")
)

// guarded identifies the caller and checks that they may.
func (a *api) guarded(r route) echo.HandlerFunc {
	readOnly := r.readOnly()
	return func(c *echo.Context) error {
		c.Set(readOnlyKey, readOnly)
		if limit := r.limit(); limit > 0 {
			bounded, cancel := context.WithTimeout(c.Request().Context(), limit)
			defer cancel()
			c.SetRequest(c.Request().WithContext(bounded))
		}
		eng := a.engine()
		switch {
		case r.always:
			return r.serve(c, principal{})
		case relay.Relayed(c.Request()) && !a.relayed(c.Request()):
			return errNotOurs
		case r.who == memberOnly && !relay.Relayed(c.Request()):
			return errNotYours
		}
		if eng == nil || eng.Writable() != nil && r.passesOn() && !a.here(c, r, eng) {
			if !r.stream { // which is over only when whoever follows it leaves
				defer a.passedFor(c, r)
			} else {
				a.passedFor(c, r)
			}
			if came, err := a.passOn(c, r, eng); came == passedOn {
				return err
			} else if err := a.alone(r, eng, came); err != nil {
				return err
			}
		}
		switch {
		case r.who == memberOnly:
			return r.serve(c, principal{})
		case r.who == anyone:
			return a.traced(c, r, principal{}, func() error { return r.serve(c, principal{}) })
		}
		p, err := a.principal(c)
		if err != nil {
			return err
		}
		switch {
		case r.who == agentOnly && p.scope != store.ScopeAgent, r.who != agentOnly && p.linkID != 0,
			r.who == vantageOnly && p.vantage == 0, r.who != vantageOnly && p.vantage != 0, r.who == signedIn && p.session == nil:
			return errNotYours
		case r.who == person && p.session != nil && p.session.Once:
			return errOnce
		case r.who == person && p.session != nil && p.session.Bare:
			return access.ErrSecondMissing
		}
		if p.key.ID != 0 {
			if err := a.bound(anythingOfKey, p); err != nil && (p.linkID != 0 || p.vantage != 0) {
				return err
			}
		}
		ctx := c.Request().Context()
		if r.who == person {
			if ctx, err = a.allowed(c, r, p); err != nil {
				return err
			}
		}
		if seen, err := ifMatch(c.Request().Header.Values("If-Match")); err != nil {
			return err
		} else if r.method != http.MethodGet {
			ctx = changes.WithRequest(ctx, changes.Request{Person: p.name, Seen: seen})
		}
		if r.stream {
			var stop context.CancelFunc
			ctx, stop = context.WithCancel(ctx)
			defer stop()
			defer a.endWith(ctx, stop, p)()
		}
		c.SetRequest(c.Request().WithContext(ctx))
		return a.traced(c, r, p, func() error { return r.serve(c, p) })
	}
}

// limit is how long a route may take: a hanging database must not block anybody. 0 for one that waits for news, or takes a file.
func (r route) limit() time.Duration {
	switch {
	case r.stream, r.large:
		return 0
	case r.slow:
		return time.Minute
	case r.method == http.MethodGet:
		return 4 * time.Second
	}
	return 12 * time.Second
}

// anywhere reports whether a server that stands by may serve a route as well: what is read there, and signing in.
func (r route) anywhere() bool {
	return r.method == http.MethodGet && r.who != agentOnly && r.who != vantageOnly && r.who != memberOnly && !r.announces ||
		strings.HasPrefix(r.path, base+"/session")
}

// ifMatch reads the header If-Match (RFC 9110 section 13.1.1): one tag, or none if any will do.
func ifMatch(values []string) (string, error) {
	text := strings.TrimSpace(strings.Join(values, ","))
	if text == "" || text == "*" {
		return "", nil
	}
	if len(text) < 3 || text[0] != '"' || text[len(text)-1] != '"' || strings.Contains(text[1:len(text)-1], `"`) {
		return "", problemOf(http.StatusBadRequest, "not-readable", `If-Match takes one tag as ETag gave it, such as "7-3"`)
	}
	return text[1 : len(text)-1], nil
}

func (a *api) principal(c *echo.Context) (principal, error) {
	ctx := c.Request().Context()
	if auth := c.Request().Header.Get("Authorization"); auth != "" {
		scheme, key, _ := strings.Cut(auth, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return principal{}, errNobody
		}
		k, err := a.engine().Access.Key(strings.TrimSpace(key))
		if err != nil {
			a.noteRefused(c, k, "", err)
			return principal{}, err
		}
		if k.Scope == store.ScopeCalendar { // it opens one URL, and no door of the API
			return principal{}, errNotYours
		}
		return principal{personID: int64(k.PersonID), name: k.Person, scope: k.Scope, linkID: int64(k.LinkID),
			vantage: int64(k.VantageID), key: k, role: k.Role, sight: k.Sight()}, nil
	}
	cookie, err := c.Cookie(cookieName)
	if err != nil {
		return principal{}, errNobody
	}
	s, err := a.engine().Access.Session(ctx, cookie.Value)
	var missing store.Missing
	if errors.As(err, &missing) {
		return principal{}, errNobody
	}
	if err != nil {
		return principal{}, err
	}
	method := c.Request().Method
	if method != http.MethodGet && method != http.MethodHead {
		given := c.Request().Header.Get(intentHeader)
		if subtle.ConstantTimeCompare([]byte(given), []byte(s.CSRF)) != 1 {
			return principal{}, errIntent
		}
	}
	if from, err := clientAddress(c); err == nil {
		a.engine().Access.SeeSession(ctx, s, from)
	}
	return principal{personID: s.PersonID, name: s.Name, session: &s, role: s.Role, sight: s.Sight()}, nil
}

func (a *api) setCookie(c *echo.Context, token string, life int) {
	c.SetCookie(&http.Cookie{Name: cookieName, Value: token, Path: "/", MaxAge: life, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: a.overTLS(c)})
}

// overTLS reports whether the browser speaks HTTPS: to us, or to a proxy that is trusted and says so.
func (a *api) overTLS(c *echo.Context) bool {
	if from, err := a.relayedFor(c.Request()); err == nil {
		return from.Secure
	}
	return c.IsTLS() || a.trust.secure(c.Request())
}

// clientAddress is the sender's address: the socket's, or what a trusted proxy says of it.
func clientAddress(c *echo.Context) (netip.Addr, error) {
	addr, err := netip.ParseAddr(c.RealIP())
	if err != nil {
		return addr, problemOf(http.StatusBadRequest, "no-address", "the proxy in front of this server sent an address that cannot be read")
	}
	return addr.Unmap().WithZone(""), nil
}

// sessionLife in seconds, for the cookie.
const sessionLife = int(access.SessionLife / 1e9)
