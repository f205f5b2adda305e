package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// faultRoutes lists the endpoints of faults, their causes, and planned work.
func (a *api) faultRoutes() []route {
	return []route{
		{method: "GET", path: base + "/faults", summary: "List faults, open ones first", who: person, out: []contract.Fault{},
			query: []param{{"site", "only this site code", wordParam}, {"open", "true lists open faults only", flagParam},
				{"cause", "only those with this cause", wordParam}},
			serve: a.faults},
		{method: "GET", path: base + "/faults/:id", summary: "Show a fault and all that happened to it", who: person,
			out: contract.FaultStory{}, serve: a.fault},
		{method: "PUT", path: base + "/faults/:id/taking", summary: "Say that a fault is known, and whose it is to mend", who: person,
			in: contract.FaultTaking{}, out: contract.FaultStory{}, serve: a.takeFault},
		{method: "POST", path: base + "/faults/:id/notes", summary: "Add a note to a fault's timeline", who: person,
			in: contract.FaultNote{}, out: contract.FaultStory{}, serve: a.noteFault},
		{method: "POST", path: base + "/faults/:id/planned-work", summary: "Plan work where a fault is: nobody is told of it meanwhile",
			who: person, in: contract.PlannedWorkInput{}, out: contract.PlannedWork{}, status: http.StatusCreated, serve: a.planWork},
		{method: "PUT", path: base + "/faults/:id/judgement", summary: "Say whether the cause of a fault was right, or what it was",
			who: person, in: contract.FaultJudgementInput{}, out: contract.FaultJudgement{}, serve: a.judgeFault},
		{method: "GET", path: base + "/faults/accuracy", summary: "How often each cause was told, and how often it was right", who: person,
			out: []contract.Accuracy{}, serve: a.accuracy},
		{method: "GET", path: base + "/faults/times", summary: "How long faults took to be noticed and mended", who: person,
			out: []contract.FaultTimes{}, query: []param{{"by", "site, provider or cause; cause if left out", wordParam},
				{"since", "only faults that opened since; 90 days ago if left out", wordParam}}, serve: a.faultTimes},
		{method: "GET", path: base + "/causes", summary: "List the causes of faults", who: person, out: []contract.Cause{},
			serve: a.causes},
		{method: "GET", path: base + "/causes/:cause", summary: "Show a cause and what it predicts", who: person, out: contract.Cause{},
			serve: a.cause},
		{method: "GET", path: base + "/sites/:code/why", summary: "How the causes of what fails at a site were weighed", who: person,
			out: contract.Why{}, serve: a.why},
		{method: "GET", path: base + "/planned-work", summary: "List planned work", who: person, out: []contract.PlannedWork{},
			serve: a.plannedWork},
		{method: "POST", path: base + "/planned-work", summary: "Plan work: faults of some sites are not told meanwhile", who: person,
			in: contract.PlannedWorkInput{}, out: contract.PlannedWork{}, status: http.StatusCreated, serve: a.planWork},
		{method: "DELETE", path: base + "/planned-work/:id", summary: "End planned work, or call it off", who: person,
			status: http.StatusNoContent, serve: a.endWork},
	}
}

// numbered reads the number that a path ends with.
func numbered(c *echo.Context, kind string) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		return 0, store.Missing{Kind: kind, Name: c.Param("id")}
	}
	return id, nil
}

func (a *api) faults(c *echo.Context, _ principal) error {
	f := store.FaultFilter{Limit: 500, Cause: causes.Slug(c.QueryParam("cause"))}
	if _, known := causes.Find(f.Cause); f.Cause != "" && !known {
		return site.Flaws{{Field: "cause", Detail: fmt.Sprintf("%q is no cause; GET %s/causes lists them", f.Cause, base)}}
	}
	var err error
	if f.OpenOnly, err = yes(c, "open"); err != nil {
		return site.Flaws{{Field: "open", Detail: err.Error()}}
	}
	if code := c.QueryParam("site"); code != "" {
		p, err := a.engine().SiteSeen(c.Request().Context(), code)
		if err != nil {
			return err
		}
		f.SiteID = p.ID
	}
	list, err := a.engine().Faults(c.Request().Context(), f)
	return ok(c, http.StatusOK, list, err)
}

func (a *api) fault(c *echo.Context, _ principal) error {
	id, err := numbered(c, "fault")
	if err != nil {
		return err
	}
	out, err := a.engine().Fault(c.Request().Context(), id)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) takeFault(c *echo.Context, p principal) error {
	id, err := numbered(c, "fault")
	if err != nil {
		return err
	}
	var in contract.FaultTaking
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().TakeFault(c.Request().Context(), id, in, p.name)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) noteFault(c *echo.Context, p principal) error {
	id, err := numbered(c, "fault")
	if err != nil {
		return err
	}
	var in contract.FaultNote
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().NoteFault(c.Request().Context(), id, in, p.name)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) judgeFault(c *echo.Context, p principal) error {
	id, err := numbered(c, "fault")
	if err != nil {
		return err
	}
	var in contract.FaultJudgementInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().JudgeFault(c.Request().Context(), id, in, p.name)
	return ok(c, http.StatusOK, out, err)
}

// timesSince is how far back the times of faults go where nothing else is asked for.
const timesSince = 90 * 24 * time.Hour

func (a *api) faultTimes(c *echo.Context, _ principal) error {
	since, err := instant(c, "since", a.engine().Now().Add(-timesSince))
	if err != nil {
		return site.Flaws{{Field: "since", Detail: err.Error()}}
	}
	out, err := a.engine().FaultTimes(c.Request().Context(), c.QueryParamOr("by", "cause"), since)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) plannedWork(c *echo.Context, _ principal) error {
	return ok(c, http.StatusOK, a.engine().PlannedWork(c.Request().Context()), nil)
}

func (a *api) planWork(c *echo.Context, p principal) error {
	var id int64
	if c.Param("id") != "" {
		var err error
		if id, err = numbered(c, "fault"); err != nil {
			return err
		}
	}
	var in contract.PlannedWorkInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().PlanWork(c.Request().Context(), in, id, p.name)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) endWork(c *echo.Context, _ principal) error {
	id, err := numbered(c, "planned work")
	if err != nil {
		return err
	}
	if err := a.engine().EndWork(c.Request().Context(), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
