package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/store"
)

// peopleRoutes lists the endpoints of people, their sessions, and what they did.
func (a *api) peopleRoutes() []route {
	return []route{
		{method: "GET", path: base + "/people", summary: "List people and what they may do", who: person, out: []contract.Person{},
			serve: a.people},
		{method: "GET", path: base + "/people/:name", summary: "Show somebody", who: person, out: contract.Person{}, serve: a.person},
		{method: "PATCH", path: base + "/people/:name", summary: "Change what somebody may do", who: person, in: contract.PersonEdit{},
			out: contract.Person{}, serve: a.editPerson},
		{method: "DELETE", path: base + "/people/:name", summary: "Remove somebody with their sessions, keys and rules", who: person,
			status: http.StatusNoContent, serve: a.removePerson},
		{method: "GET", path: base + "/invitations", summary: "List invitations that can still be used", who: person,
			out: []contract.PersonInvitation{}, serve: a.invitations},
		{method: "POST", path: base + "/invitations", summary: "Invite somebody, by a link that works once", who: person,
			in: contract.PersonInvitationInput{}, out: contract.PersonInvitation{}, status: http.StatusCreated, serve: a.invitePerson},
		{method: "DELETE", path: base + "/invitations/:id", summary: "Take an invitation back", who: person, status: http.StatusNoContent,
			serve: a.takeBack},
		{method: "POST", path: base + "/session/invitation/reading", summary: "What an invitation makes of whoever has its code",
			limited: true, in: contract.InvitationCode{}, out: contract.PersonInvitation{}, reads: true, serve: a.invited},
		{method: "POST", path: base + "/session/invitation", summary: "Use an invitation up, with a password of one's own", limited: true,
			in: contract.Acceptance{}, out: contract.Session{}, status: http.StatusCreated, serve: a.accept},
		{method: "GET", path: base + "/session/all", summary: "List one's own sessions", who: signedIn, out: []contract.SessionView{},
			serve: a.sessions},
		{method: "DELETE", path: base + "/session/all/:id", summary: "End a session of one's own", who: signedIn,
			status: http.StatusNoContent, serve: a.endSession},
		{method: "GET", path: base + "/audit", summary: "Who did what, the newest first", who: person, out: []contract.Act{},
			query: []param{{"person", "only what they did", wordParam}, {"site", "only what was done at this site", wordParam},
				{"kind", "only what this is about, such as sites.devices", wordParam}, {"failed", "true lists only what failed", flagParam},
				{"since", "done at this RFC 3339 time or later", momentParam}, {"until", "done before this RFC 3339 time", momentParam},
				{"before", "only acts with a lower id", numberParam}, {"limit", "1 to 1000; 100 if left out", numberParam},
				{"format", "lines for JSON lines (application/x-ndjson), all of them", wordParam}}, serve: a.audit},
	}
}

func personView(p store.Person) contract.Person {
	return contract.Person{Name: p.Name, Role: p.Role, Tags: append([]string{}, p.Tags...), Created: p.Created.Time, Waiting: p.Once}
}

// shownTo is what a caller sees of somebody: names are needed to hand faults over, and no more is.
func shownTo(p principal, one store.Person) contract.Person {
	v := personView(one)
	if !p.role.May(team.Administer) {
		v.Tags, v.Waiting = []string{}, false
	}
	return v
}

func (a *api) people(c *echo.Context, p principal) error {
	list, err := a.engine().Access.People(c.Request().Context())
	out := make([]contract.Person, 0, len(list))
	for _, one := range list {
		out = append(out, shownTo(p, one))
	}
	return ok(c, http.StatusOK, out, err)
}

func (a *api) person(c *echo.Context, p principal) error {
	one, err := a.engine().Access.Person(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, shownTo(p, one), err)
}

func (a *api) editPerson(c *echo.Context, _ principal) error {
	var in contract.PersonEdit
	if err := decode(c, &in); err != nil {
		return err
	}
	ctx, people := c.Request().Context(), a.engine().Access
	err := people.SetRights(ctx, c.Param("name"), func(r store.Rights) store.Rights {
		if in.Role != nil {
			if r.Role = *in.Role; r.Role == team.Owner && in.Tags == nil {
				r.Tags = nil // an owner sees all sites
			}
		}
		if in.Tags != nil {
			r.Tags = *in.Tags
		}
		return r
	})
	if err != nil {
		return err
	}
	p, err := people.Person(ctx, c.Param("name"))
	return ok(c, http.StatusOK, personView(p), err)
}

func (a *api) removePerson(c *echo.Context, _ principal) error {
	return done(c, a.engine().Access.RemovePerson(c.Request().Context(), c.Param("name")))
}

func invitationView(in store.Invitation) contract.PersonInvitation {
	return contract.PersonInvitation{ID: in.ID, PersonInvitationInput: contract.PersonInvitationInput{Name: in.Name, Role: in.Role,
		Tags: in.Tags}, By: in.By, Created: in.Created.Time, Expires: in.Expires.Time}
}

func (a *api) invitations(c *echo.Context, _ principal) error {
	list, err := a.engine().Access.Invitations(c.Request().Context())
	out := make([]contract.PersonInvitation, 0, len(list))
	for _, one := range list {
		out = append(out, invitationView(one))
	}
	return ok(c, http.StatusOK, out, err)
}

func (a *api) invitePerson(c *echo.Context, p principal) error {
	var in contract.PersonInvitationInput
	if err := decode(c, &in); err != nil {
		return err
	}
	code, inv, err := a.engine().Access.InvitePerson(c.Request().Context(), in.Name, store.Rights{Role: in.Role, Tags: in.Tags}, p.name)
	out := invitationView(inv)
	out.Code, out.URL = code, strings.TrimSuffix(a.public, "/")+"/invitation#"+code
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) takeBack(c *echo.Context, _ principal) error {
	id, err := numbered(c, "invitation")
	if err == nil {
		err = a.engine().Access.TakeBack(c.Request().Context(), id)
	}
	return done(c, err)
}

func (a *api) invited(c *echo.Context, _ principal) error {
	var of contract.InvitationCode // not in the address: proxies write those down
	if err := decode(c, &of); err != nil {
		return err
	}
	in, err := a.engine().Access.Invited(c.Request().Context(), of.Code)
	return ok(c, http.StatusOK, invitationView(in), err)
}

func (a *api) accept(c *echo.Context, _ principal) error {
	var in contract.Acceptance
	if err := decode(c, &in); err != nil {
		return err
	}
	by, err := visitor(c)
	if err != nil {
		return err
	}
	token, s, err := a.engine().Access.Accept(c.Request().Context(), in.Code, in.Password, by)
	if err != nil {
		return err
	}
	named(c, s.Name)
	a.setCookie(c, token, sessionLife)
	return c.JSON(http.StatusCreated, a.sessionDoc(s))
}

func (a *api) sessions(c *echo.Context, p principal) error {
	list, err := a.engine().Access.Sessions(c.Request().Context(), p.personID)
	out := make([]contract.SessionView, 0, len(list))
	for _, s := range list {
		one := contract.SessionView{ID: s.ID, Opened: s.Opened.Time, Seen: s.Seen.Time, Expires: s.Expires.UTC(), Program: s.Program,
			Current: s.ID == p.session.ID}
		if s.Address.IsValid() {
			one.Address = s.Address.String()
		}
		out = append(out, one)
	}
	return ok(c, http.StatusOK, out, err)
}

func (a *api) endSession(c *echo.Context, p principal) error {
	id, err := numbered(c, "session")
	if err == nil {
		err = a.engine().Access.EndSession(c.Request().Context(), p.personID, id)
	}
	return done(c, err)
}

// auditBatch is how many acts are read at once where all of them are written out.
const auditBatch = 1000

// audit lists what was done. An owner sees all of it, everybody else what was done at the sites that they see.
func (a *api) audit(c *echo.Context, p principal) error {
	var flaws site.Flaws
	f := store.ActFilter{Person: c.QueryParam("person"), Kind: c.QueryParam("kind"), AtSites: !p.role.May(team.Administer)}
	var err error
	f.Limit, err = number(c, "limit", 100, 1, auditBatch)
	flaws.Note("limit", err)
	before, err := number(c, "before", 0, 0, 1<<62)
	flaws.Note("before", err)
	f.Before = int64(before)
	f.Since, err = instant(c, "since", time.Time{})
	flaws.Note("since", err)
	f.Until, err = instant(c, "until", time.Time{})
	flaws.Note("until", err)
	f.Failed, err = yes(c, "failed")
	flaws.Note("failed", err)
	format := c.QueryParamOr("format", "json")
	if !slices.Contains([]string{"json", "lines"}, format) {
		flaws.Note("format", fmt.Errorf("%q is neither json nor lines", format))
	}
	if err := flaws.Err(); err != nil {
		return err
	}
	ctx := c.Request().Context()
	if code := c.QueryParam("site"); code != "" {
		s, err := a.engine().SiteSeen(ctx, code)
		if err != nil {
			return err
		}
		f.SiteID = s.ID
	}
	if format == "json" {
		out, err := a.engine().Acts(ctx, f)
		return ok(c, http.StatusOK, out, err)
	}
	c.Response().Header().Set("Content-Type", "application/x-ndjson")
	c.Response().Header().Set("Content-Disposition", `attachment; filename="audit.jsonl"`)
	for f.Limit = auditBatch; ; {
		out, err := a.engine().Acts(ctx, f)
		if err != nil {
			return err
		}
		to := json.NewEncoder(c.Response())
		for _, one := range out {
			if err := to.Encode(one); err != nil {
				return err
			}
			f.Before = one.ID
		}
		if len(out) < auditBatch {
			return nil
		}
	}
}
