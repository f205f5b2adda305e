package api

import (
	"crypto/subtle"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
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
}

var (
	errNobody   = problemOf(http.StatusUnauthorized, "sign-in-needed", "sign in, or send a key as: Authorization: Bearer KEY")
	errIntent   = problemOf(http.StatusForbidden, "intent-missing", "a change made from a browser needs the session's value in the "+intentHeader+" header")
	errOnce     = problemOf(http.StatusForbidden, "choose-password", "replace the one-time password first: PUT "+base+"/session/password")
	errNotYours = problemOf(http.StatusForbidden, "wrong-key", "this key is for something else: an agent's key announces, a vantage point's returns outcomes, a person's key does all the rest")
	errTooMany  = problemOf(http.StatusTooManyRequests, "too-many", "too many tries from your address; wait a few seconds")
)

// guarded finds out who calls, and lets through whoever may.
func (a *api) guarded(r route) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if r.who == anyone {
			return r.serve(c, principal{})
		}
		p, err := a.principal(c)
		if err != nil {
			return err
		}
		switch {
		case r.who == agentOnly && p.scope != store.ScopeAgent, r.who != agentOnly && p.linkID != 0, r.who == vantageOnly && p.vantage == 0, r.who != vantageOnly && p.vantage != 0, r.who == signedIn && p.session == nil:
			return errNotYours
		case r.who == person && p.session != nil && p.session.Once:
			return errOnce
		}
		return r.serve(c, p)
	}
}

func (a *api) principal(c *echo.Context) (principal, error) {
	ctx := c.Request().Context()
	if auth := c.Request().Header.Get("Authorization"); auth != "" {
		scheme, key, _ := strings.Cut(auth, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return principal{}, errNobody
		}
		k, err := a.engine.KeyOf(ctx, strings.TrimSpace(key))
		if err != nil {
			a.noteRefused(c, k, "", err)
			return principal{}, err
		}
		return principal{personID: int64(k.PersonID), name: k.Person, scope: k.Scope, linkID: int64(k.LinkID), vantage: int64(k.VantageID), key: k}, nil
	}
	cookie, err := c.Cookie(cookieName)
	if err != nil {
		return principal{}, errNobody
	}
	s, err := a.engine.Session(ctx, cookie.Value)
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
	return principal{personID: s.PersonID, name: s.Name, session: &s}, nil
}

func setCookie(c *echo.Context, token string, life int) {
	c.SetCookie(&http.Cookie{Name: cookieName, Value: token, Path: "/", MaxAge: life, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: c.IsTLS()})
}

// clientAddress is the sender's address: the socket's, or what a trusted proxy says of it.
func clientAddress(c *echo.Context) (netip.Addr, error) {
	addr, err := netip.ParseAddr(c.RealIP())
	if err != nil {
		return addr, problemOf(http.StatusBadRequest, "no-address", "the proxy in front of this server sent an address that cannot be read")
	}
	return addr.Unmap().WithZone(""), nil
}

func ipNet(p netip.Prefix) *net.IPNet {
	p = p.Masked()
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// sessionLife in seconds, for the cookie.
const sessionLife = int(engine.SessionLife / 1e9)
