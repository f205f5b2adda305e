package api

import (
	"fmt"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/store"
)

// noticeRoutes lists the endpoints of notices: who is told, where, and how it went.
func (a *api) noticeRoutes() []route {
	return []route{
		{method: "GET", path: base + "/notices", summary: "List notices and how they got to their recipients, the newest first",
			who: person,
			out: []contract.Notice{}, query: []param{{"state", "only those waiting, sent or failed (given up)", wordParam},
				{"before", "only notices with a lower id", numberParam}, {"limit", "1 to 500; 50 if left out", numberParam}},
			serve: a.notices},
		{method: "GET", path: base + "/notices/:id", summary: "Show a notice and what it says", who: person, out: contract.NoticeStory{},
			serve: a.notice},
		{method: "POST", path: base + "/notices/:id/again", summary: "Send a notice that was given up on its way again", who: person,
			status: http.StatusNoContent, serve: a.sendAgain},
		{method: "POST", path: base + "/notice-tests", summary: "Send a test at once, and tell each step", who: person, slow: true,
			in: contract.NoticeTest{}, out: contract.NoticeTrial{}, serve: a.testNotice},
		{method: "GET", path: base + "/notice-rules", summary: "List who is told of what", who: person, out: []notice.Rule{},
			serve: a.noticeRules},
		{method: "POST", path: base + "/notice-rules", summary: "Have a person or a webhook told of something", who: person,
			in:  notice.Rule{},
			out: notice.Rule{}, status: http.StatusCreated, serve: a.addNoticeRule},
		{method: "PUT", path: base + "/notice-rules/:id", summary: "Replace a rule", who: person, in: notice.Rule{}, out: notice.Rule{},
			serve: a.editNoticeRule},
		{method: "DELETE", path: base + "/notice-rules/:id", summary: "Remove a rule", who: person, status: http.StatusNoContent,
			serve: a.removeNoticeRule},
		{method: "GET", path: base + "/addressees", summary: "List people with where notices to them go", who: person,
			out: []contract.Addressee{}, serve: a.addressees},
		{method: "PUT", path: base + "/addressees/:name", summary: "Say where notices to a person go", who: person,
			in: contract.AddresseeInput{}, out: contract.Addressee{}, serve: a.setAddressee},
		{method: "GET", path: base + "/hooks", summary: "List webhooks", who: person, out: []contract.Hook{}, serve: a.hooks},
		{method: "POST", path: base + "/hooks", summary: "Add a webhook", who: person, in: contract.HookInput{}, out: contract.Hook{},
			status: http.StatusCreated, serve: a.addHook},
		{method: "DELETE", path: base + "/hooks/:name", summary: "Remove a webhook with its rules", who: person,
			status: http.StatusNoContent, serve: a.removeHook},
	}
}

func (a *api) notices(c *echo.Context, _ principal) error {
	var f site.Flaws
	limit, err := number(c, "limit", 50, 1, 500)
	f.Note("limit", err)
	before, err := number(c, "before", 0, 0, 1<<40)
	f.Note("before", err)
	state := c.QueryParam("state")
	if !slices.Contains([]string{"", store.DeliveryWaiting, store.DeliverySent, store.DeliveryFailed}, state) {
		f.Note("state", fmt.Errorf("%q is none of waiting, sent, failed", state))
	}
	if err := f.Err(); err != nil {
		return err
	}
	out, err := a.engine().Notices(c.Request().Context(), store.DeliveryFilter{State: state, Before: int64(before), Limit: limit})
	return ok(c, http.StatusOK, out, err)
}

func (a *api) notice(c *echo.Context, _ principal) error {
	id, err := numbered(c, "notice")
	if err != nil {
		return err
	}
	out, err := a.engine().Notice(c.Request().Context(), id)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) sendAgain(c *echo.Context, _ principal) error {
	id, err := numbered(c, "notice")
	if err == nil {
		err = a.engine().SendAgain(c.Request().Context(), id)
	}
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) testNotice(c *echo.Context, _ principal) error {
	var in contract.NoticeTest
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().TestNotice(c.Request().Context(), in)
	return ok(c, http.StatusOK, out, err)
}

// forOthers reports whether somebody may say what others are told of: who edits, and sees all sites.
func (p principal) forOthers() bool { return p.may(team.Edit) && p.sight.All() }

var errOthersRule = problemOf(http.StatusForbidden, "not-your-part", "you can only say what you are told of yourself")

func (a *api) noticeRules(c *echo.Context, p principal) error {
	out, err := a.engine().NoticeRules(c.Request().Context())
	if !p.forOthers() {
		out = slices.DeleteFunc(out, func(r notice.Rule) bool { return r.Person != p.name })
	}
	return ok(c, http.StatusOK, out, err)
}

// ruleHeld checks that somebody may change a rule. Errors: store.Missing, that of the database.
func (a *api) ruleHeld(c *echo.Context, p principal) (int64, error) {
	id, err := numbered(c, "rule")
	if err != nil || p.forOthers() {
		return id, err
	}
	list, err := a.engine().NoticeRules(c.Request().Context())
	if err == nil && !slices.ContainsFunc(list, func(r notice.Rule) bool { return r.ID == id && r.Person == p.name }) {
		err = store.Missing{Kind: "rule", Name: c.Param("id")}
	}
	return id, err
}

func (a *api) addNoticeRule(c *echo.Context, p principal) error {
	var in notice.Rule
	if err := decode(c, &in); err != nil {
		return err
	}
	if in.Person != p.name && !p.forOthers() {
		return errOthersRule
	}
	out, err := a.engine().AddNoticeRule(c.Request().Context(), in)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) editNoticeRule(c *echo.Context, p principal) error {
	id, err := a.ruleHeld(c, p)
	if err != nil {
		return err
	}
	var in notice.Rule
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().EditNoticeRule(c.Request().Context(), id, in)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) removeNoticeRule(c *echo.Context, p principal) error {
	id, err := a.ruleHeld(c, p)
	if err == nil {
		err = a.engine().RemoveNoticeRule(c.Request().Context(), id)
	}
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) addressees(c *echo.Context, p principal) error {
	out, err := a.engine().Addressees(c.Request().Context())
	if !p.forOthers() {
		out = slices.DeleteFunc(out, func(one contract.Addressee) bool { return one.Name != p.name })
	}
	return ok(c, http.StatusOK, out, err)
}

func (a *api) setAddressee(c *echo.Context, p principal) error {
	if c.Param("name") != p.name && !p.forOthers() {
		return errOthersRule
	}
	var in contract.AddresseeInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().SetAddressee(c.Request().Context(), c.Param("name"), in)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) hooks(c *echo.Context, _ principal) error {
	out, err := a.engine().Hooks(c.Request().Context())
	return ok(c, http.StatusOK, out, err)
}

func (a *api) addHook(c *echo.Context, _ principal) error {
	var in contract.HookInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().AddHook(c.Request().Context(), in)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) removeHook(c *echo.Context, _ principal) error {
	if err := a.engine().RemoveHook(c.Request().Context(), c.Param("name")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
