package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

func (a *api) sessionDoc(s store.Session) contract.Session {
	return contract.Session{Name: s.Name, CSRF: s.CSRF, ChoosePassword: s.Once, Lab: a.lab != nil}
}

func (a *api) signIn(c *echo.Context, _ principal) error {
	var in contract.SignIn
	if err := decode(c, &in); err != nil {
		return err
	}
	token, s, err := a.engine.SignIn(c.Request().Context(), in)
	if err != nil {
		return err
	}
	setCookie(c, token, sessionLife)
	return c.JSON(http.StatusOK, a.sessionDoc(s))
}

func (a *api) session(c *echo.Context, p principal) error {
	return c.JSON(http.StatusOK, a.sessionDoc(*p.session))
}

func (a *api) signOut(c *echo.Context, _ principal) error {
	cookie, err := c.Cookie(cookieName)
	if err != nil {
		return errNobody
	}
	setCookie(c, "", -1)
	return done(c, a.engine.SignOut(c.Request().Context(), cookie.Value))
}

func (a *api) choosePassword(c *echo.Context, p principal) error {
	var in contract.NewPassword
	if err := decode(c, &in); err != nil {
		return err
	}
	token, s, err := a.engine.ChoosePassword(c.Request().Context(), p.name, in.Password)
	if err != nil {
		return err
	}
	setCookie(c, token, sessionLife)
	return c.JSON(http.StatusOK, a.sessionDoc(s))
}

func (a *api) keys(c *echo.Context, _ principal) error {
	list, err := a.engine.Keys(c.Request().Context())
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addKey(c *echo.Context, p principal) error {
	var in contract.KeyInput
	if err := decode(c, &in); err != nil {
		return err
	}
	k, err := a.engine.AddKey(c.Request().Context(), p.personID, p.name, in.Label)
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) addRouterKey(c *echo.Context, _ principal) error {
	var in contract.KeyInput
	if err := decode(c, &in); err != nil {
		return err
	}
	k, err := a.engine.AddRouterKey(c.Request().Context(), c.Param("code"), c.Param("label"), in.Label)
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) revokeKey(c *echo.Context, _ principal) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return store.Missing{Kind: "key", Name: c.Param("id")}
	}
	return done(c, a.engine.RevokeKey(c.Request().Context(), id))
}

func (a *api) invite(c *echo.Context, _ principal) error {
	inv, err := a.engine.Invite(c.Request().Context(), c.Param("code"), c.Param("label"))
	return ok(c, http.StatusCreated, inv, err)
}

func (a *api) enrol(c *echo.Context, _ principal) error {
	var in contract.Enrolment
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine.Enrol(c.Request().Context(), in)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) observed(c *echo.Context, p principal) error {
	addr, err := clientAddress(c)
	if err != nil {
		return err
	}
	a.engine.Observe(p.linkID, addr)
	l, _ := a.engine.LinkOf(p.linkID)
	out := contract.Observed{Address: addr.String(), CheckSeconds: a.engine.CheckEvery().Seconds(), Protocol: contract.AgentProtocol, STUN: a.stun,
		Clock: time.Now().UTC()}
	if out.NewKey, err = a.engine.TurnDue(c.Request().Context(), p.key); err != nil {
		return err
	}
	for _, s := range l.Sources {
		out.Sources = append(out.Sources, string(s))
	}
	return c.JSON(http.StatusOK, out)
}

// noticedMost bounds how long ago a sender may claim to have noticed: an agent that was cut off may have waited days.
const noticedMost = 7 * 24 * time.Hour

func (a *api) announce(c *echo.Context, p principal) error {
	var in contract.Announcement
	if err := decode(c, &in); err != nil {
		return err
	}
	var f site.Flaws
	source, err := wan.ParseSource(in.Source)
	f.Note("source", err)
	var pair wan.Pair
	for _, field := range []struct{ name, text string }{{"ipv4", in.IPv4}, {"ipv6", in.IPv6}} {
		given, err := typed(field.name, field.text)
		f.Note(field.name, err)
		if given.IPv4.IsValid() {
			pair.IPv4 = given.IPv4
		}
		if given.IPv6.IsValid() {
			pair.IPv6 = given.IPv6
		}
	}
	ago := time.Duration(in.NoticedMS) * time.Millisecond
	if in.NoticedMS < 0 || ago > noticedMost {
		f.Note("noticed_ms", fmt.Errorf("%d is out of range; 0 to %d are allowed", in.NoticedMS, noticedMost.Milliseconds()))
	}
	if err := f.Err(); err != nil {
		return err
	}
	if source == wan.SourceObserved {
		// What we see counts, whatever the sender believes.
		addr, err := clientAddress(c)
		if err != nil {
			return err
		}
		pair = wan.PairOf(addr)
	}
	if in.Protocol >= 2 {
		return a.report(c, p, in, source, time.Now().UTC().Add(-ago))
	}
	r, err := a.engine.Announce(c.Request().Context(), p.linkID, wan.Announcement{Addresses: pair, Source: source, Noticed: time.Now().UTC().Add(-ago)})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, contract.Receipt{Changed: r.Decision.Changed, Old: r.Decision.Old.String(), New: r.Decision.New.String(),
		MoveID: r.MoveID, Hostnames: r.Hostnames})
}

// typed reads an address of the family that a field is for.
func typed(field, text string) (wan.Pair, error) {
	if text == "" {
		return wan.Pair{}, nil
	}
	addr, err := parseAddr(text)
	if err != nil {
		return wan.Pair{}, err
	}
	pair := wan.PairOf(addr)
	if (field == "ipv4") != pair.IPv4.IsValid() {
		return wan.Pair{}, fmt.Errorf("%s is of the other address family", text)
	}
	return pair, nil
}
