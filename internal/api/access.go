package api

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

func (a *api) sessionDoc(s store.Session) contract.Session {
	return contract.Session{Name: s.Name, CSRF: s.CSRF, ChoosePassword: s.Once, Lab: a.lab != nil, Role: s.Role,
		Tags: append([]string{}, s.Tags...), SetUpSecond: s.Bare}
}

func (a *api) signIn(c *echo.Context, _ principal) error {
	var in contract.SignIn
	if err := decode(c, &in); err != nil {
		return err
	}
	by, err := visitor(c)
	if err != nil {
		return err
	}
	named(c, in.Name)
	token, s, err := a.engine().Access.SignIn(c.Request().Context(), in.Name, in.Password, in.Code, by)
	if err != nil {
		return err
	}
	a.setCookie(c, token, sessionLife)
	return c.JSON(http.StatusOK, a.sessionDoc(s))
}

// visitor is who signs in.
func visitor(c *echo.Context) (access.Visitor, error) {
	from, err := clientAddress(c)
	return access.Visitor{From: from, Program: c.Request().UserAgent()}, err
}

func (a *api) session(c *echo.Context, p principal) error {
	return c.JSON(http.StatusOK, a.sessionDoc(*p.session))
}

func (a *api) signOut(c *echo.Context, _ principal) error {
	cookie, err := c.Cookie(cookieName)
	if err != nil {
		return errNobody
	}
	a.setCookie(c, "", -1)
	return done(c, a.engine().Access.SignOut(c.Request().Context(), cookie.Value))
}

func (a *api) choosePassword(c *echo.Context, p principal) error {
	var in contract.NewPassword
	if err := decode(c, &in); err != nil {
		return err
	}
	by, err := visitor(c)
	if err != nil {
		return err
	}
	token, s, err := a.engine().Access.ChoosePassword(c.Request().Context(), p.name, access.Choice(in), by)
	if err != nil {
		return err
	}
	a.setCookie(c, token, sessionLife)
	return c.JSON(http.StatusOK, a.sessionDoc(s))
}

// keys lists the keys of the sites that somebody sees, and their own; an owner sees everybody's.
func (a *api) keys(c *echo.Context, p principal) error {
	list, err := a.engine().Keys(c.Request().Context())
	if !p.role.May(team.Administer) {
		list = slices.DeleteFunc(list, func(k contract.Key) bool {
			return (k.Scope == store.ScopePerson || k.Scope == store.ScopeCalendar) && k.Holder != p.name
		})
	}
	return ok(c, http.StatusOK, list, err)
}

// keyHeld checks that somebody may change a key: one of their own, of a link that they see, or any where they are an owner.
func (a *api) keyHeld(c *echo.Context, p principal) (int64, error) {
	missing := store.Missing{Kind: "key", Name: c.Param("id")}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, missing
	}
	k, link, known := a.engine().KeyOnRecord(id)
	switch {
	case !known:
		return 0, missing
	case k.LinkID != 0:
		if _, err := a.engine().SiteSeen(c.Request().Context(), link); err != nil {
			return 0, missing
		}
		if !p.may(team.Edit) {
			return 0, errNotYours
		}
	case int64(k.PersonID) != p.personID && !p.may(team.Administer):
		return 0, missing
	}
	return id, nil
}

// strongest is the most that a key of a caller can be made for.
func (p principal) strongest() team.Right {
	for _, r := range []team.Right{team.Edit, team.Probe} {
		if p.may(r) {
			return r
		}
	}
	return team.Read
}

func (a *api) addKey(c *echo.Context, p principal) error {
	var in contract.KeyInput
	if err := decode(c, &in); err != nil {
		return err
	}
	in.May = cmp.Or(in.May, string(p.strongest()))
	if may, err := team.ParseRight(in.May); err == nil && !p.may(may) {
		return site.Flaws{{Field: "may", Detail: fmt.Sprintf("a key cannot do more than whoever makes it; %s at most", p.strongest())}}
	}
	k, err := a.engine().AddKey(c.Request().Context(), p.personID, p.name, in)
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) addRouterKey(c *echo.Context, _ principal) error {
	var in contract.KeyInput
	if err := decode(c, &in); err != nil {
		return err
	}
	k, err := a.engine().AddRouterKey(c.Request().Context(), c.Param("code"), c.Param("label"), in)
	k.Server = a.public
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) allowKey(c *echo.Context, p principal) error {
	var in contract.Allowance
	if err := decode(c, &in); err != nil {
		return err
	}
	id, err := a.keyHeld(c, p)
	if err != nil {
		return err
	}
	return done(c, a.engine().Access.AllowKey(c.Request().Context(), id, in.MayAnnounce))
}

func (a *api) revokeKey(c *echo.Context, p principal) error {
	id, err := a.keyHeld(c, p)
	if err != nil {
		return err
	}
	return done(c, a.engine().Access.RevokeKey(c.Request().Context(), id))
}

func (a *api) invite(c *echo.Context, _ principal) error {
	var in contract.InvitationInput
	if c.Request().ContentLength != 0 {
		if err := decode(c, &in); err != nil {
			return err
		}
	}
	inv, err := a.engine().Invite(c.Request().Context(), c.Param("code"), c.Param("label"), in)
	inv.Server = a.public
	return ok(c, http.StatusCreated, inv, err)
}

func (a *api) enrol(c *echo.Context, _ principal) error {
	var in contract.Enrolment
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().Enrol(c.Request().Context(), in)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) observed(c *echo.Context, p principal) error {
	addr, err := clientAddress(c)
	if err != nil {
		return err
	}
	a.engine().SiteSide.Observe(p.linkID, addr)
	l, _ := a.engine().LinkOf(p.linkID)
	out := contract.Observed{Address: addr.String(), CheckSeconds: a.engine().CheckEvery().Seconds(),
		Protocol: contract.AgentProtocol, STUN: a.stun,
		Clock: a.engine().Now()}
	if out.NewKey, err = a.engine().Access.RotationDue(c.Request().Context(), p.key); err != nil {
		return err
	}
	for _, s := range l.Sources {
		out.Sources = append(out.Sources, string(s))
	}
	return c.JSON(http.StatusOK, out)
}

// maxNoticed bounds how long ago a sender may claim to have noticed: an agent that was cut off may have waited days.
const maxNoticed = 7 * 24 * time.Hour

func (a *api) announce(c *echo.Context, p principal) error {
	if err := a.bound(announcementOfKey, p); err != nil {
		return err
	}
	var in contract.Announcement
	if err := decodeReport(c, &in); err != nil {
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
	ago := time.Duration(0)
	if in.NoticedMS >= 0 && in.NoticedMS <= maxNoticed.Milliseconds() {
		ago = time.Duration(in.NoticedMS) * time.Millisecond
	} else {
		f.Note("noticed_ms", fmt.Errorf("%d is out of range; 0 to %d are allowed", in.NoticedMS, maxNoticed.Milliseconds()))
	}
	if err := f.Err(); err != nil {
		return err
	}
	if in.Protocol < 2 {
		if source == wan.SourceObserved {
			from, err := clientAddress(c)
			if err != nil {
				return err
			}
			pair = wan.PairOf(from)
		}
		if err := a.engine().CheckPublic(pair); err != nil {
			return err
		}
	}
	if in.Protocol < 2 { // an older agent says one address: that is one report among those that are weighed
		in.Sent, in.Reports = a.engine().Now(), nil
		if pair.Known() && source != wan.SourceObserved {
			in.Reports = []contract.SourceReport{{Source: in.Source, IPv4: in.IPv4, IPv6: in.IPv6}}
		}
	}
	return a.report(c, p, in, source, a.engine().Now().Add(-ago))
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
